import { type Failure, FailureError } from '~/contract/failure'
import { wordsOf } from '../../log'

/** What it means for the messages of a file that it could not be written. */
export type Meaning =
  /** Never, for these messages. */
  | 'refused'
  /** Not now, for the place. */
  | 'later'
  /** Not now, whatever the place. */
  | 'all later'
  /** It is away, or answers no more: nobody knows. */
  | 'lost'

/** Why a place of files did not do what it was to do. */
export class StoreError extends FailureError {
  constructor(
    readonly meaning: Meaning,
    failure: Failure,
  ) {
    super(failure, 502)
  }
}

type Said = readonly [meaning: Meaning, code: string, words: string, hint: string]

/** By error of the system (POSIX.1-2017 2.3), what is to be done about it. */
const ofSystem: Readonly<Record<string, Said>> = {
  ENOSPC: ['all later', 'full', 'the disk is full', 'Make room there; Embrik tries again'],
  EDQUOT: ['all later', 'full', 'what this user may keep there is used up', 'Make room there, or have more granted'],
  EFBIG: ['all later', 'full', 'the file is larger than may be kept there', 'Have files finished earlier, by size'],
  EROFS: ['all later', 'reads-only', 'the disk takes nothing, it only reads', 'Look at the log of the machine: a disk in trouble is made so'],
  EIO: ['all later', 'broken', 'the disk fails', 'Look at the log of the machine; Embrik tries again'],
  EMFILE: ['all later', 'handles', 'too many files are open on this machine', 'Raise the limit of open files; Embrik tries again'],
  ENFILE: ['all later', 'handles', 'too many files are open on this machine', 'Raise the limit of open files; Embrik tries again'],
  ENOMEM: ['all later', 'memory', 'the machine has no memory left', 'Embrik tries again'],
  EACCES: ['later', 'not-allowed', 'not allowed there', 'Let the user under which the engine runs write there'],
  EPERM: ['later', 'not-allowed', 'not allowed there', 'Let the user under which the engine runs write there'],
  ENOTDIR: ['later', 'in-the-way', 'a file lies where a folder is needed', 'Take it away, or change the path'],
  EISDIR: ['later', 'in-the-way', 'a folder lies where a file is to be', 'Take it away, or change the path'],
  EEXIST: ['later', 'in-the-way', 'a file lies where a folder is needed', 'Take it away, or change the path'],
  ELOOP: ['later', 'in-the-way', 'links there lead in a circle', 'Take them away'],
  ENAMETOOLONG: ['refused', 'path-length', 'the path is longer than can be kept there', 'Shorten the path template'],
  ENOENT: ['lost', 'gone', 'the folder is not there any more', 'Bring it back: is a disk not mounted?'],
  ETIMEDOUT: ['lost', 'silent', 'it gave no answer in time', 'Is it on another machine that is away, or a disk in trouble?'],
  ESTALE: ['lost', 'gone', 'the folder is not there any more', 'Bring it back: is a disk not mounted?'],
}

/** By code of an object store's answer, what is to be done about it. */
const ofStore: Readonly<Record<string, Said>> = {
  AccessDenied: ['later', 'not-allowed', 'not allowed there', 'Grant its access key to put objects (and to list and get, for the witness)'],
  InvalidAccessKeyId: ['lost', 'login', 'the store does not know the access key', 'Check the key id: it is the user of the log-in'],
  SignatureDoesNotMatch: ['lost', 'login', 'the signature is wrong', 'Check the secret of the access key; a proxy in between may change requests'],
  RequestTimeTooSkewed: ['lost', 'clock', 'its clock and the one here are too far apart', 'Set the clocks of both by the same time server'],
  RequestExpired: ['lost', 'clock', 'its clock and the one here are too far apart', 'Set the clocks of both by the same time server'],
  AuthorizationHeaderMalformed: ['lost', 'region', 'the store wants another region in the signature', 'Correct the region'],
  PermanentRedirect: ['lost', 'moved', 'the bucket is to be reached elsewhere', 'Correct the address, or have the bucket in the host name'],
  TemporaryRedirect: ['all later', 'moved', 'the bucket is elsewhere just now', 'Embrik tries again'],
  NoSuchBucket: ['all later', 'no-bucket', 'there is no such bucket', 'Make it, or correct its name'],
  SlowDown: ['all later', 'busy', 'the store wants fewer requests', 'Embrik tries again, and waits as long as it asks for'],
  ServiceUnavailable: ['all later', 'busy', 'the store takes nothing just now', 'Embrik tries again'],
  InternalError: ['lost', 'failed', 'the store failed', 'Embrik sends the object again under the same name'],
  QuotaExceeded: ['all later', 'full', 'the bucket is full', 'Make room there, or have more granted'],
  InsufficientStorage: ['all later', 'full', 'the store has no room left', 'Make room there; Embrik tries again'],
  EntityTooLarge: ['later', 'too-large', 'the object is larger than the store takes', 'Have files finished earlier, by size'],
  KeyTooLongError: ['refused', 'path-length', 'the path is longer than the store takes', 'Shorten the path template'],
  BadDigest: ['lost', 'damaged', 'what arrived was not what was sent', 'Embrik sends it again; something in between changes octets'],
  XAmzContentSHA256Mismatch: ['lost', 'damaged', 'what arrived was not what was sent', 'Embrik sends it again; something in between changes octets'],
  NoSuchUpload: ['lost', 'parts', 'the store has forgotten the parts that it had', 'Embrik sends the object again'],
  InvalidPart: ['lost', 'parts', 'the store has lost a part', 'Embrik sends the object again'],
}

const byStatus = (status: number): Said => {
  if (status === 507) return ofStore.InsufficientStorage!
  if (status === 429 || status === 503) return ofStore.SlowDown!
  if (status === 401) return ofStore.InvalidAccessKeyId!
  if (status === 403) return ofStore.AccessDenied!
  if (status === 413) return ofStore.EntityTooLarge!
  if (status >= 500) return ofStore.InternalError!
  if (status >= 300 && status < 400) return ofStore.PermanentRedirect!
  return ['later', `status-${status}`, `the store refuses it with ${status}`, 'Ask who runs it']
}

const failureFrom = ([, code, words, hint]: Said, place: string, because: string): Failure => ({
  code: `file.${code}`,
  message: `${place.slice(0, 300)}: ${words}${because}`,
  hint,
  where: 'destination',
})

/** What an answer of an object store says: by its code, else by its status. */
export function refusalOf(status: number, code: string, message: string, place: string): StoreError {
  const said = (Object.hasOwn(ofStore, code) ? ofStore[code] : undefined) ?? byStatus(status)
  const words = [code, message].filter(Boolean).join(': ').slice(0, 300)
  return new StoreError(said[0], failureFrom(said, place, ` (${status}${words === '' ? '' : `, ${words}`})`))
}

/** What went wrong with a file at a place, and what it means. */
export function meaningOf(e: unknown, place: string): { meaning: Meaning; failure: Failure } {
  if (e instanceof StoreError) return { meaning: e.meaning, failure: e.failure }
  if (e instanceof FailureError) return { meaning: 'later', failure: e.failure }
  const { code = '' } = e as { code?: string }
  const said = Object.hasOwn(ofSystem, code) ? ofSystem[code] : undefined
  if (said) return { meaning: said[0], failure: failureFrom(said, place, ` (${code})`) }
  const words: Said = ['all later', 'failed', `it could not be written: ${wordsOf(e).slice(0, 200)}`, 'The log has more; Embrik tries again']
  return { meaning: 'all later', failure: failureFrom(words, place, '') }
}

import type { Caller } from '~/contract/person'
import type { RouteKey } from '~/contract/routes'
import { addAudit } from '~/store/audit'
import { listClasses } from '~/store/class'
import { listCredentials } from '~/store/credential'
import { listDestinations } from '~/store/destination'
import { listKeys, listPeople } from '~/store/person'
import { listProofRuns } from '~/store/proof-run'
import { listPublications } from '~/store/publication'
import { listSources } from '~/store/source'
import { database } from './context'

interface Named {
  id: string
  name: string
}
interface Audited {
  /** What kind of thing is acted upon. */
  kind: string
  /** All there are, so that what was before can be found by its id. */
  all?: () => Promise<Named[]>
  /** What of the answer is told; unless given, the answer itself. */
  after?: (answer: unknown, body: unknown) => unknown
  /** Whether anything was done at all. */
  happened?: (answer: unknown) => boolean
  /** Who did it where nobody was logged in before. */
  by?: (answer: unknown) => string
}

const people = () => listPeople(database())
const keys = () => listKeys(database())
const sources = () => listSources(database())
const destinations = () => listDestinations(database())
const credentials = () => listCredentials(database())
const publications = () => listPublications(database())
const classes = () => listClasses(database())
const proofRuns = () => listProofRuns(database())
const nameOf = (answer: unknown) => (answer as { name?: string } | null)?.name ?? ''
/** Of edits of many things how many there were. */
const counted = (_answer: unknown, body: unknown) =>
  Object.fromEntries(Object.entries((body ?? {}) as Record<string, unknown>).map(([k, v]) => [k, Array.isArray(v) ? v.length : v]))
/** A password has changed: that it has is told, and nothing of it. */
const password = (_answer: unknown, body: unknown) => {
  const { password: typed, ...rest } = (body ?? {}) as Record<string, unknown>
  return typed === undefined ? rest : { ...rest, password: 'changed' }
}

/** Every act that is told in the audit. What an endpoint takes in is never told, only what it answers, which holds no secret. */
export const audited: Partial<Record<RouteKey, Audited>> = {
  logIn: { kind: 'session', by: nameOf, after: () => null },
  logOut: { kind: 'session' },
  setUp: { kind: 'person', by: nameOf },
  addPerson: { kind: 'person' },
  changePerson: { kind: 'person', all: people, after: (answer, body) => ({ ...(answer as object), ...(password(answer, body) as object) }) },
  removePerson: { kind: 'person', all: people },
  changePassword: { kind: 'person', after: () => ({ password: 'changed' }) },
  endSession: { kind: 'session' },
  confirmSecondFactor: { kind: 'person', after: () => ({ secondFactor: 'set up' }) },
  endSecondFactor: { kind: 'person', after: () => ({ secondFactor: 'ended' }) },
  resetSecondFactor: { kind: 'person', all: people, after: () => ({ secondFactor: 'reset' }) },
  addKey: { kind: 'API key', after: (answer) => (answer as { stored: unknown }).stored },
  removeKey: { kind: 'API key', all: keys },
  addSource: { kind: 'source' },
  changeSource: { kind: 'source', all: sources },
  switchSource: { kind: 'source', all: sources },
  removeSource: { kind: 'source', all: sources },
  renewApplication: { kind: 'credential' },
  addDestination: { kind: 'destination' },
  changeDestination: { kind: 'destination', all: destinations },
  removeDestination: { kind: 'destination', all: destinations },
  clearWaiting: { kind: 'destination', all: destinations, after: (answer) => answer as { cleared: number } },
  sendAside: { kind: 'destination', after: (answer) => ({ sent: (answer as { topic: string }).topic }) },
  removeAsides: { kind: 'destination', all: destinations },
  addCredential: { kind: 'credential' },
  keepHanded: { kind: 'credential', after: (answer) => (answer as { name: string; kind: string }[]).map(({ name, kind }) => ({ name, kind })) },
  bindCredential: { kind: 'credential', all: credentials },
  renewCredential: { kind: 'credential', all: credentials },
  replaceCredential: { kind: 'credential', all: credentials },
  putBackCredential: { kind: 'credential', all: credentials },
  forgetBefore: { kind: 'credential', all: credentials },
  makeAuthority: { kind: 'credential' },
  issueCertificate: { kind: 'credential' },
  makeRequest: { kind: 'credential' },
  answerRequest: { kind: 'credential', all: credentials },
  takeBackCertificate: { kind: 'credential', all: credentials, after: (_answer, body) => body },
  takeOutKey: { kind: 'credential', all: credentials, after: (_answer, body) => ({ key: 'taken out', form: (body as { form?: unknown }).form }) },
  removeCredential: { kind: 'credential', all: credentials },
  addPublication: { kind: 'publication' },
  changePublication: { kind: 'publication', all: publications },
  removePublication: { kind: 'publication', all: publications },
  goLive: { kind: 'publication', all: publications },
  goBack: { kind: 'publication', all: publications },
  sayPublication: { kind: 'publication', all: publications },
  pausePublication: { kind: 'publication', all: publications },
  resumePublication: { kind: 'publication', all: publications },
  startProofRun: { kind: 'proof run', after: (_answer, body) => body },
  stopProofRun: { kind: 'proof run', all: proofRuns },
  removeProofRun: { kind: 'proof run', all: proofRuns },
  addClass: { kind: 'class' },
  changeClass: { kind: 'class', all: classes },
  removeClass: { kind: 'class', all: classes },
  editEquipment: { kind: 'equipment', after: counted },
  editTags: { kind: 'tags', after: counted },
  importTags: {
    kind: 'tags',
    happened: (answer) => (answer as { applied?: boolean }).applied === true,
    after: (answer) => (answer as { counts?: unknown }).counts,
  },
  addTags: { kind: 'tags', after: counted },
  removeTags: { kind: 'tags', after: counted },
  writeTag: { kind: 'tag', after: (_answer, body) => (body as { value?: unknown }).value },
}

/** What is to be told of an act, begun before it is done: gives how to end it. Null: nothing is told of such acts. */
export async function auditing(key: RouteKey, id: string | undefined) {
  const how = audited[key]
  if (!how) return null
  const before = id !== undefined && how.all ? ((await how.all()).find((x) => x.id === id) ?? null) : null
  return {
    /** The act is done: tells it. */
    done: async (o: { caller: Caller | null; address: string | null; answer: unknown; body: unknown }): Promise<void> => {
      const { caller, address, answer, body } = o
      if (how.happened && !how.happened(answer)) return
      const told = answer instanceof Response ? null : answer
      const named = (told ?? before) as Partial<Named> | null
      await addAudit(database(), {
        who: caller?.name ?? how.by?.(answer) ?? 'nobody',
        whoId: caller?.id ?? null,
        via: caller ? (caller.kind === 'key' ? 'key' : 'session') : 'nobody',
        address,
        act: key,
        subjectKind: how.kind,
        subjectId: id ?? named?.id ?? null,
        subject: before?.name ?? named?.name ?? '',
        before,
        after: how.after ? how.after(told, body) : told,
      })
    },
  }
}

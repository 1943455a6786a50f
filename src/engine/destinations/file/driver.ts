import { FailureError } from '~/contract/failure'
import { digest } from '~/core/delivery/digest'
import { unpackProperties } from '~/core/delivery/properties'
import type { DestinationDriver } from '../driver'
import { rowsOf } from '../rows'
import { storeOf, userOf, wayOf } from './access'
import { meaningOf } from './answers'
import { checkFile } from './check'
import { FileFarEnd } from './far-end'
import { finishedAt } from './finished'
import { plainKept } from './format'
import { FileSender } from './sender'

/** Files that hold many messages, in a folder or as objects of a store. */
export const fileDriver: DestinationDriver<'file'> = {
  keepsOnce: true,
  carriesId: ({ idColumn }) => idColumn !== '',
  protection: ({ settings: s }) =>
    s.store === 'folder' ? 'a folder of this machine' : s.url.startsWith('https:') ? 'TLS, signed requests' : 'signed requests, without TLS',
  rights: (_settings, reads) => `to write files under ${reads[0] ?? '/'}, or to list and read them there`,
  within: ({ topic, properties }) => `${topic} ${properties}`,
  manner: () => '',
  described: ({ topic, properties }) => {
    const how = unpackProperties(properties).how ?? ''
    return `${topic.slice(0, 200)}${how === '' ? '' : ` (${how.slice(0, 100)})`}`
  },
  dislikes: 'look at the room that is left, and at rights',
  digest: (e) => {
    const rows = rowsOf(e)
    return rows && digest(Buffer.from(plainKept(rows.rows)))
  },
  sameSender: (a, b) => JSON.stringify([userOf(a, 'sender'), howOf(a.settings)]) === JSON.stringify([userOf(b, 'sender'), howOf(b.settings)]),
  sameWitness: (a, b) =>
    JSON.stringify([userOf(a, 'witness'), a.settings.lookEveryS]) === JSON.stringify([userOf(b, 'witness'), b.settings.lookEveryS]),
  check: (target, planned) => checkFile(target, planned),
  farEnd: (target, sink, clock, remembered) =>
    new FileFarEnd(target.id, () => storeOf(target, 'witness', clock), target.settings, finishedAt(remembered, wayOf(target.settings)), sink, clock),
  async open(target, { sink, clock, remembered }) {
    try {
      return await FileSender.begin(target, sink, clock, remembered)
    } catch (e) {
      throw e instanceof FailureError ? e : new FailureError(meaningOf(e, wayOf(target.settings)).failure, 502)
    }
  },
}

type Settings = Parameters<typeof fileDriver.carriesId>[0]

function howOf({ format, compression, filesMost, fileMb, ageS, partMb, window, ackS }: Settings) {
  return { format, compression, filesMost, fileMb, ageS, partMb, window, ackS }
}

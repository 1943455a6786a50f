import { columnsOf } from '~/contract/addresses/table'
import { FailureError } from '~/contract/failure'
import { digest } from '~/core/delivery/digest'
import type { Envelope } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
import { plainRows } from '~/core/value/plain-rows'
import type { DestinationDriver } from '../driver'
import { rowsOf } from '../rows'
import { senderUser, witnessUser } from './access'
import { lostFailure } from './answers'
import { checkTable } from './check'
import { TableFarEnd } from './far-end'
import { TableSender } from './sender'

const keysOf = ({ properties }: Envelope) => columnsOf(unpackProperties(properties).how ?? '')

/** PostgreSQL databases whose tables take messages as rows. */
export const tableDriver: DestinationDriver<'table'> = {
  keepsOnce: true,
  carriesId: ({ idColumn }) => idColumn !== '',
  protection: ({ settings: s }) => (s.tls ? 'TLS, log-in' : 'log-in, without TLS'),
  rights: (_settings, reads) => `of its log-in to insert into ${reads[0] ?? 'its tables'}, or of its witness to select there`,
  within: ({ topic, properties }) => `${topic} ${properties}`,
  manner: () => '',
  described: (e) => {
    const keys = keysOf(e)
    return `${e.topic.slice(0, 200)} (${keys.length === 0 ? 'added' : `by ${keys.join(', ')}`})`
  },
  dislikes: 'look at the log of the server, at triggers and the size of rows',
  digest: (e) => {
    const rows = rowsOf(e)
    return rows && digest(Buffer.from(plainRows(rows.rows)))
  },
  sameSender: (a, b) => JSON.stringify([senderUser(a), howOf(a.settings)]) === JSON.stringify([senderUser(b), howOf(b.settings)]),
  sameWitness: (a, b) => JSON.stringify([witnessUser(a), readOf(a.settings)]) === JSON.stringify([witnessUser(b), readOf(b.settings)]),
  check: (target, planned) => checkTable(target, planned),
  farEnd: (target, sink, clock) => new TableFarEnd(witnessUser(target), target.settings, sink, clock),
  async open(target, { sink, clock, remembered }) {
    const user = senderUser(target)
    try {
      return await TableSender.begin(user, target.settings, sink, clock, remembered)
    } catch (e) {
      throw e instanceof FailureError ? e : new FailureError(lostFailure(e, user), 502)
    }
  },
}

type Settings = Parameters<typeof tableDriver.carriesId>[0]

function howOf({ idColumn, rowColumn, make, batchMost, batchKb, lingerMs, window }: Settings) {
  return { idColumn, rowColumn, make, batchMost, batchKb, lingerMs, window }
}

function readOf({ idColumn, rowColumn, readEveryMs }: Settings) {
  return { idColumn, rowColumn, readEveryMs }
}

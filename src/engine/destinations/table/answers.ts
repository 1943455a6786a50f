import { type Failure, FailureError } from '~/contract/failure'
import { wordsOf } from '../../log'
import { connectFailure } from '../../net/postgres'
import type { TableUser } from './access'

/** What an error of the database means for what was sent. */
export type Meaning =
  /** One of the rows is at fault: of one message, never. */
  | 'split'
  /** Never, for these messages. */
  | 'refused'
  /** Not now, for the table. */
  | 'later'
  /** Not now, whatever the table. */
  | 'all later'
  /** The connection is over: nobody knows. */
  | 'lost'

type Said = readonly [meaning: Meaning, code: string, words: string, hint: string]

/** By error code (PostgreSQL's manual, appendix A), what is to be done about it. */
const known: Readonly<Record<string, Said>> = {
  '21000': [
    'split',
    'same-key',
    'two rows of one message have the same key',
    'Name more columns as keys of rows, or take a shape with one row a message',
  ],
  '22001': ['split', 'too-long', 'a text is longer than its column takes', 'Make the column longer, or the text shorter'],
  '22003': ['split', 'out-of-range', 'a number is larger than its column takes', 'Give the column a larger type'],
  '22007': ['split', 'type', 'a value does not fit the type of its column', 'Change the type of the column, or how the shape writes times'],
  '22008': ['split', 'type', 'a time is beyond what its column takes', 'Look at the clock of the device'],
  '22P02': ['split', 'type', 'a value does not fit the type of its column', 'Change the type of the column, or what is sent in it'],
  '22P05': ['split', 'text', 'a text holds a character that the database does not take', 'Databases take no NUL in texts'],
  '22021': ['split', 'text', 'a text is not in the encoding of the database', 'Take UTF8 as encoding of the database'],
  '23502': ['split', 'empty', 'a column that may not be empty gets no value', 'Send a value for it, or give it a default'],
  '23503': ['split', 'reference', 'a row that it points to is not there', 'Have that row there first'],
  '23505': ['split', 'twice', 'a row with the same key is there already', 'Name the keys of rows in the address, so that rows are replaced'],
  '23514': ['split', 'rule', 'a rule of the table forbids it', 'Change the rule, or what is sent'],
  '23P01': ['split', 'rule', 'a rule of the table forbids it', 'Change the rule, or what is sent'],
  '44000': ['split', 'rule', 'a rule of the view forbids it', 'Change the rule, or what is sent'],
  '42601': ['split', 'empty', 'the message has nothing that a column could hold', 'Send a member that always has a value'],
  '54000': ['split', 'too-large', 'it is larger than the database takes', 'Send fewer members'],
  '42P10': ['later', 'no-key', 'no unique index is on the keys of rows', 'Make one on just these columns'],
  '42P01': ['later', 'no-table', 'there is no such table', 'Make it, or let Embrik make what is missing'],
  '3F000': ['later', 'no-schema', 'there is no such schema', 'Make it'],
  '42703': ['later', 'columns', 'its columns are others than a moment ago', 'Embrik looks again'],
  '42501': ['later', 'not-allowed', 'not allowed there', 'Grant insert on the table (update and select too, where rows are replaced)'],
  '42P07': ['later', 'made', 'somebody else made it in this moment', 'Embrik looks again'],
  '42809': ['later', 'no-table', 'it is no table that takes rows', 'Name a table'],
  '25006': ['all later', 'reads-only', 'the server only reads just now: a standby?', 'Send to the primary server'],
  '40003': ['lost', 'ended', 'whether it was kept is not known', 'Embrik connects anew and sends again'],
  '40001': ['later', 'again', 'it collided with others', 'Embrik tries again'],
  '40P01': ['later', 'again', 'it and others waited for each other', 'Embrik tries again'],
  '55P03': ['later', 'locked', 'the table is locked', 'Embrik tries again'],
  '57014': [
    'later',
    'slow',
    'it took longer than it may',
    'Is the table locked, or the server busy? Give it more time, or send fewer rows a statement',
  ],
  '53100': ['all later', 'full', 'the disk of the server is full', 'Make room there; Embrik tries again'],
  '53200': ['all later', 'memory', 'the server has no memory left', 'Embrik tries again'],
  '53400': ['all later', 'limit', 'a limit of the server is reached', 'Raise it; Embrik tries again'],
  '54001': ['split', 'too-large', 'it is nested deeper than the database takes', 'Take a flatter shape'],
}

const byClass = (state: string): Said => {
  switch (state.slice(0, 2)) {
    case '22':
      return ['split', 'value', 'a value is not taken', 'Compare the shape with the columns']
    case '23':
      return ['split', 'rule', 'a rule of the table forbids it', 'Change the rule, or what is sent']
    case '40':
      return ['later', 'again', 'it collided with others', 'Embrik tries again']
    case '53':
      return ['all later', 'resources', 'the server lacks something', 'Look at it; Embrik tries again']
    case '08':
    case '57':
    case '58':
    case 'XX':
      return ['lost', 'ended', 'the server ended the connection', 'Embrik connects anew and sends again']
    // What a trigger says, among others.
    case 'P0':
      return ['split', 'trigger', 'a function of the database does not take it', 'Ask who wrote it']
    default:
      return ['later', 'failed', 'the database does not take it', 'Look at its log; Embrik tries again']
  }
}

const isState = (code: unknown): code is string => typeof code === 'string' && /^[0-9A-Z]{5}$/.test(code) && !code.startsWith('E')

/** What an error means for what was sent to a table, and in words. */
export function meaningOf(e: unknown, place: string, u: TableUser): { meaning: Meaning; failure: Failure } {
  if (e instanceof FailureError) return { meaning: 'later', failure: e.failure }
  const { code, detail = '', column, routine } = e as { code?: string; detail?: string; column?: string; routine?: string }
  if (!isState(code)) return { meaning: 'lost', failure: lostFailure(e, u) }
  // What may not be written there says the same code for a table and for one row of it (row security).
  const [meaning, short, words, hint] = routine === 'ExecWithCheckOptions' ? known['44000']! : (known[code] ?? byClass(code))
  const said = [wordsOf(e), detail].filter(Boolean).join('; ').slice(0, 300)
  const where = column === undefined ? place : `${place}, column ${column}`
  return { meaning, failure: { code: `table.${short}`, message: `${where.slice(0, 200)}: ${words} (${code}: ${said})`, hint, where: 'destination' } }
}

/** Why a connection is over, or never came about. */
export function lostFailure(e: unknown, u: TableUser, where: 'destination' | 'witness' = 'destination'): Failure {
  const connecting = connectFailure(e, u, where)
  if (connecting) return connecting
  const words = wordsOf(e).slice(0, 200)
  if (/timeout/i.test(words))
    return {
      code: 'table.silent',
      message: `${u.host} gave no answer in time`,
      hint: 'It is slow, or something in between holds it back; what was sent goes again',
      where,
    }
  return { code: 'table.cut', message: `${u.host} ended the connection: ${words}`, hint: 'Embrik connects anew and sends again', where }
}

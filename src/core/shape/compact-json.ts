import type { PlanMember } from '~/contract/publication'
import type { Scalar } from '~/core/value/deadband'
import { qualityOf, reasonOf } from '~/core/value/quality'

/** Where an encoder reads from: arrays indexed by tag handle. Times are epoch ms. */
export interface ValueArrays {
  value: Scalar[]
  status: ArrayLike<number>
  time: ArrayLike<number>
}

export interface Encoded {
  payload: string
  /** The newest device time among the members, epoch ms. */
  at: number
}

/**
 * Makes the encoder of one equipment: one flat JSON object (RFC 8259), `at` first, then a key a member; a member of bad
 * quality is null; `quality` lists, as text, only the members that are not good. Keys and constants are written once here.
 *
 * `{"at":"2026-03-04T14:07:12.481Z","temperature":689.6,"burner":true,"gasFlow":null,"quality":{"gasFlow":"bad: sensor fault"}}`
 */
export function compactJson(members: readonly PlanMember[]): (from: ValueArrays, now: number) => Encoded {
  const keys = members.map((m) => `,${JSON.stringify(m.key)}:`)
  const fixed = members.map((m) => (m.handle === null ? JSON.stringify(m.constant) : null))
  const handles = members.map((m) => m.handle ?? 0)
  const marks = members.map((m) => `${JSON.stringify(m.key)}:`)
  return (from, now) => {
    let at = 0
    let body = ''
    let quality = ''
    for (let i = 0; i < keys.length; i++) {
      const constant = fixed[i]
      if (typeof constant === 'string') {
        body += keys[i] + constant
        continue
      }
      const h = handles[i]!
      const status = from.status[h]!
      const q = qualityOf(status)
      const value = from.value[h] ?? null
      body += keys[i] + (q === 'bad' ? 'null' : scalarJson(value))
      if (q !== 'good') quality += `${quality ? ',' : ''}${marks[i]}"${q}: ${reasonOf(status)}"`
      const time = from.time[h]!
      if (time > at) at = time
    }
    if (at === 0) at = now
    const tail = quality ? `,"quality":{${quality}}}` : '}'
    return { at, payload: `{"at":"${new Date(at).toISOString()}"${body}${tail}` }
  }
}

function scalarJson(value: Scalar): string {
  if (typeof value === 'number') return Number.isFinite(value) ? String(value) : 'null'
  if (typeof value === 'boolean') return value ? 'true' : 'false'
  return value === null ? 'null' : JSON.stringify(value)
}

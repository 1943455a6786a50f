import type { PlanMember } from '~/contract/publication'
import type { Cell } from '../publication/cell'
import type { Scalar } from '../value/deadband'
import { qualityOf, reasonOf } from '../value/quality'

export interface Encoded {
  payload: string
  /** The newest device time among the members, epoch ms. */
  at: number
}

/**
 * Makes the encoder of one equipment: one flat JSON object (RFC 8259), `at` first, then a key a member; a member of bad
 * quality is null; `quality` lists, as text, only the members that are not good. Keys and constants are written once here.
 * Cells are those of the members, in their order, and have been read.
 *
 * `{"at":"2026-03-04T14:07:12.481Z","temperature":689.6,"burner":true,"gasFlow":null,"quality":{"gasFlow":"bad: sensor fault"}}`
 */
export function compactJson(members: readonly Pick<PlanMember, 'key' | 'fill'>[]): (cells: readonly Cell[], now: number) => Encoded {
  const keys = members.map((m) => `,${JSON.stringify(m.key)}:`)
  const fixed = members.map((m) => (m.fill.kind === 'constant' ? JSON.stringify(m.fill.value) : null))
  const marks = members.map((m) => `${JSON.stringify(m.key)}:`)
  return (cells, now) => {
    let at = 0
    let body = ''
    let quality = ''
    for (let i = 0; i < keys.length; i++) {
      const constant = fixed[i]
      if (typeof constant === 'string') {
        body += keys[i] + constant
        continue
      }
      const cell = cells[i]!
      const q = qualityOf(cell.status)
      body += keys[i] + (q === 'bad' ? 'null' : scalarJson(cell.value))
      if (q !== 'good') quality += `${quality ? ',' : ''}${marks[i]}"${q}: ${reasonOf(cell.status)}"`
      if (cell.time > at) at = cell.time
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

import { decoded } from './decode'

/** What of all messages goes into the table, and which of their fields. */
export interface RoutingRule {
  /** Part of the path; empty: all. */
  path: string
  /** Field and least value, of numbers; null: whatever it is. */
  atLeast: { field: string; value: number } | null
  /** Fields, by dots; none: all that is there. */
  fields: string[]
}

/** A row of the table. */
export interface Routed {
  at: number
  unit: string
  path: string
  fields: Record<string, unknown>
}

const ROWS = 1000

const at = (value: unknown, path: string): unknown =>
  path
    .split('.')
    .reduce<unknown>(
      (v, part) => (typeof v === 'object' && v !== null && Object.hasOwn(v, part) ? (v as Record<string, unknown>)[part] : undefined),
      value,
    )

/** A filter and projection over what comes in, into a table that can be looked at. */
export class Routing {
  rule: RoutingRule = { path: '', atLeast: null, fields: [] }
  rows: Routed[] = []
  /** Messages that could not be read. */
  unread = 0

  take(unit: string, path: string, payload: Buffer, contentType: string, now: number): void {
    const { rule } = this
    if (!path.includes(rule.path)) return
    let value: unknown
    try {
      value = decoded(payload, contentType)
    } catch {
      this.unread++
      return
    }
    if (rule.atLeast !== null) {
      const found = at(value, rule.atLeast.field)
      if (typeof found !== 'number' || found < rule.atLeast.value) return
    }
    const fields = rule.fields.length > 0 ? Object.fromEntries(rule.fields.map((f) => [f, at(value, f)])) : { value }
    this.rows.unshift({ at: now, unit, path, fields })
    if (this.rows.length > ROWS * 1.25) this.rows.length = ROWS
  }
}

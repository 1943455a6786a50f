import type { CheckStep } from '~/contract/failure'
import type { SettingsOf, SourceKind } from '~/contract/source'
import type { Scalar } from '~/core/value/deadband'
import type { TagNote } from '~/engine/live/table'
import type { SourceConnection, SourceContext, SourceDriver, SourceTarget } from '~/engine/sources/driver'

export const noContext: SourceContext = { application: { certificate: '', key: '' }, workFolder: '' }

export function targetOf<K extends SourceKind>(kind: K, settings: SettingsOf<K>, more: Partial<SourceTarget<K>> = {}): SourceTarget<K> {
  return { name: kind, kind, settings, password: null, authority: null, credential: null, proxy: null, ...more }
}

/** Runs a check to its end; the last word on each step. */
export async function checked<K extends SourceKind>(
  driver: SourceDriver<K>,
  target: SourceTarget<K>,
  ctx = noContext,
): Promise<Record<string, CheckStep>> {
  const steps: Record<string, CheckStep> = {}
  for await (const s of driver.check(target, ctx)) steps[s.key] = s
  return steps
}

export const states = (steps: Record<string, CheckStep>) => Object.fromEntries(Object.entries(steps).map(([k, s]) => [k, s.state]))

/** An open connection and what it has reported so far, by tag handle. */
export async function opened<K extends SourceKind>(driver: SourceDriver<K>, target: SourceTarget<K>, ctx = noContext) {
  const values = new Map<number, { value: Scalar; status: number; time: number }>()
  const counts = new Map<number, number>()
  const notes = new Map<number, TagNote>()
  const downs: string[] = []
  const trips: number[] = []
  const connection: SourceConnection = await driver.open(target, ctx, {
    down: (f) => downs.push(f.message),
    roundTrip: (ms) => trips.push(ms),
    mark: (handles, status, note) => {
      for (const h of handles) {
        values.set(h, { value: values.get(h)?.value ?? null, status, time: values.get(h)?.time ?? 0 })
        notes.set(h, note)
      }
    },
    values: (b) => {
      b.handles.forEach((h, i) => {
        values.set(h, { value: b.values[i]!, status: b.statuses[i]!, time: b.times[i]! })
        counts.set(h, (counts.get(h) ?? 0) + 1)
      })
      for (const [h, n] of b.notes ?? []) notes.set(h, n)
    },
  })
  return { connection, values, counts, notes, downs, trips }
}

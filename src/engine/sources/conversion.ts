import { FailureError } from '~/contract/failure'
import type { Scaling, Tag } from '~/contract/tag'
import { deadbandWidth, type Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { scale, slope, unscale } from '~/core/value/scaling'
import type { Batch } from '../live/table'
import type { WantedTag } from './driver'

/** What a driver is told of a tag: rates come from the group where it has none of its own, widths are in raw units. */
export function wantedTag(t: Tag, groupRates: ReadonlyMap<string, number>): WantedTag {
  const width = deadbandWidth(t.deadband, t.range)
  return {
    handle: t.handle,
    address: t.address,
    dataType: t.dataType,
    sampleMs: t.sampleMs ?? (t.groupId ? (groupRates.get(t.groupId) ?? null) : null),
    width: t.scaling ? width / slope(t.scaling) : width,
  }
}

interface Raw {
  value: number | bigint
  status: number
  time: number
}

/** Turns the raw values of one source into engineering units, and remembers them for the day a scaling changes. */
export class Scaler {
  private scalings = new Map<number, Scaling>()
  private readonly raws = new Map<number, Raw>()

  /**
   * Takes up the scalings of these tags. Gives the values that are others now although the device has not spoken since;
   * `present` is what a tag shows that had no scaling before.
   */
  setTags(tags: readonly Tag[], present: (handle: number) => Raw | null): Batch | null {
    const before = this.scalings
    this.scalings = new Map(tags.flatMap((t) => (t.scaling ? [[t.handle, t.scaling] as const] : [])))
    const again = { handles: [] as number[], values: [] as Scalar[], statuses: [] as number[], times: [] as number[] }
    for (const handle of new Set([...before.keys(), ...this.scalings.keys()])) {
      if (JSON.stringify(before.get(handle)) === JSON.stringify(this.scalings.get(handle))) continue
      const raw = before.has(handle) ? this.raws.get(handle) : present(handle)
      if (!this.scalings.has(handle)) this.raws.delete(handle)
      if (!raw) continue
      again.handles.push(handle)
      again.values.push(raw.value)
      again.statuses.push(raw.status)
      again.times.push(raw.time)
    }
    if (again.handles.length === 0) return null
    this.apply(again)
    return again
  }

  /**
   * Scales a batch in place. Beyond the two points of a scaling with clamp a good value becomes uncertain: what is shown is
   * not what was measured (OPC 10000-8 6.3, EngineeringUnitsExceeded).
   */
  apply(batch: Batch): void {
    if (this.scalings.size === 0) return
    for (let i = 0; i < batch.handles.length; i++) {
      const handle = batch.handles[i]!
      const s = this.scalings.get(handle)
      const came = batch.values[i]
      if (!s || (typeof came !== 'number' && typeof came !== 'bigint')) continue
      this.raws.set(handle, { value: came, status: batch.statuses[i]!, time: batch.times[i]! })
      // A scaled value is a number, whatever the raw one was.
      const { value, beyond } = scale(s, Number(came))
      batch.values[i] = value
      if (!beyond || !s.clamp || batch.statuses[i]! >>> 30 !== 0) continue
      batch.statuses[i] = Status.engineeringUnitsExceeded
      batch.notes ??= new Map()
      if (!batch.notes.has(handle))
        batch.notes.set(handle, { at: batch.times[i]!, text: `Raw ${came} is beyond ${s.rawLow} to ${s.rawHigh}: held at the end` })
    }
  }
}

/** Writes in engineering units and reads back in them. A device that takes whole numbers only gets the nearest one. */
export async function writeScaled(write: (raw: Scalar) => Promise<Scalar>, scaling: Scaling | null, value: Scalar): Promise<Scalar> {
  if (!scaling || (typeof value !== 'number' && typeof value !== 'bigint')) return write(value)
  // Without the dust of binary fractions.
  const raw = Number(unscale(scaling, Number(value)).toPrecision(15))
  const back = await write(raw).catch((e: unknown) => {
    if (Number.isInteger(raw) || !(e instanceof FailureError) || e.failure.code !== 'tag.value') throw e
    return write(Math.round(raw))
  })
  return typeof back === 'number' || typeof back === 'bigint' ? scale(scaling, Number(back)).value : back
}

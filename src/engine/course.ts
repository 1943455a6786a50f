import type { Condition, CourseFigures, LiveFrames } from '~/contract/live'
import type { DeliveryRow } from '~/store/publication'
import type { Ledger } from './ledger/ledger'
import type { LiveTable } from './live/table'
import type { ModelCache } from './world'

/** The parts of an engine that the course counts. */
export interface CourseParts {
  readonly table: LiveTable
  readonly model: ModelCache
  readonly ledger: Ledger
  readonly sources: ReadonlyMap<string, { condition: Condition }>
  readonly publications: { readonly deliveries: readonly DeliveryRow[]; readonly running: ReadonlyMap<string, unknown> }
}

/** The figures of the course: how many of each there are, up and down, and the rates between them. */
export function courseOf(
  engine: CourseParts,
  destinations: readonly LiveFrames['destinations'][string][],
  publications: readonly Condition[],
): CourseFigures {
  let sourcesUp = 0
  let sourcesDown = 0
  for (const s of engine.sources.values()) {
    if (s.condition.state === 'running') sourcesUp++
    else if (s.condition.state !== 'off') sourcesDown++
  }
  let destinationsUp = 0
  let destinationsDown = 0
  for (const { sender } of destinations) {
    const { state } = sender
    if (state === 'running') destinationsUp++
    else if (state !== 'off') destinationsDown++
  }
  let trouble = 0
  for (const c of publications) if (c.state === 'trouble') trouble++
  let arrived = 0
  let missing = 0
  let lost = 0
  for (const d of engine.publications.deliveries) {
    const c = engine.ledger.countsOf(d.number)
    if (!c) continue
    arrived += c.arrived - c.altered
    missing += c.missing
    lost += c.altered + c.missing + c.dropped + c.rejected
  }
  return {
    sourcesUp,
    sourcesDown,
    tags: engine.model.tags.size,
    tagsBad: engine.model.tagsBad(engine.table),
    valuesPerS: engine.table.rate.perSecond(),
    bound: engine.model.bound,
    members: engine.model.members,
    equipment: engine.model.equipment.size,
    publicationsLive: engine.publications.running.size,
    publicationsTrouble: trouble,
    producedPerS: engine.ledger.producedRate.perSecond(),
    destinationsUp,
    destinationsDown,
    ackedPerS: engine.ledger.ackedRate.perSecond(),
    confirmedPerS: engine.ledger.confirmedRate.perSecond(),
    confirmedShare: arrived + lost === 0 ? null : arrived / (arrived + lost),
    missing,
  }
}

import { FailureError, fail } from '~/contract/failure'
import type { Plan, Publication } from '~/contract/publication'
import { withOwnSteps } from '~/core/publication/clauses'
import { compile, publisherOf } from '~/core/publication/compile'
import type { World } from '~/core/publication/placed'
import { asPrescribed } from '~/core/publication/prescribed'
import { type RegisteredSchema, withNumbers } from '~/core/publication/registered'
import { listClasses } from './class'
import type { Conn } from './database'
import { getDestination } from './destination'
import { listEquipment } from './equipment'
import { rivalPlans } from './publication'
import { listRecords, recordHandles } from './record'
import { loadRows } from './row'
import { listMadeUpSources } from './source'
import { listTags } from './tag'

/** The whole model, as publications are resolved against it. */
export async function loadWorld(db: Conn): Promise<World> {
  const [tags, equipment, classes, records, madeUpSources, rows] = await Promise.all([
    listTags(db),
    listEquipment(db),
    listClasses(db),
    listRecords(db),
    listMadeUpSources(db),
    loadRows(db),
  ])
  return {
    tags: new Map(tags.map((t) => [t.id, t])),
    equipment: new Map(equipment.map((e) => [e.id, e])),
    classes: new Map(classes.map((c) => [c.id, c])),
    records: recordHandles(records),
    madeUpSources,
    rows,
  }
}

/** Resolves a publication against the model as it is in this transaction; refuses what preflight stops. */
export async function freeze(p: Publication, tx: Conn): Promise<Omit<Plan, 'number' | 'delivery'>> {
  const world = await loadWorld(tx)
  const options = { publicationId: p.id, destination: await getDestination(tx, p.destinationId) }
  const alone = compile(p, world, options)
  const rivals = await rivalPlans(tx, p, alone.body.reads, publisherOf(p.shape))
  const others = rivals.filter((o) => o.publicationId !== p.id)
  const { body, findings } = others.length > 0 ? compile(p, world, { ...options, others }) : alone
  const stops = findings.filter((f) => f.severity === 'stops')
  const first = stops[0]
  if (first)
    throw new FailureError(
      {
        code: 'preflight.stops',
        message: first.message,
        hint: stops.length > 1 ? `${first.hint}; and ${stops.length - 1} more findings` : first.hint,
        where: 'publication',
        fields: Object.fromEntries(stops.map((f) => [f.section, f.message])),
      },
      409,
    )
  const { id, name, destinationId, trigger, pace, steps, shape, address, ahead } = withOwnSteps(asPrescribed(p))
  const chosen = { trigger, ...(pace && { pace }), ...(steps && { steps }), ...(ahead && { ahead }), shape, address }
  return { ...body, publicationId: id, name, destinationId, ...chosen }
}

/** The same, with numbers that a registry gave its schemas; refuses when they are of other schemas than it has now. */
export async function freezeNumbered(p: Publication, tx: Conn, registered: readonly RegisteredSchema[]): Promise<Omit<Plan, 'number' | 'delivery'>> {
  const plan = withNumbers(await freeze(p, tx), registered)
  if (plan) return plan
  throw fail(409, 'publication.changed', 'A schema changed while it was registered', 'Go live again', 'publication')
}

import { FailureError } from '~/contract/failure'
import type { Plan, Publication } from '~/contract/publication'
import { compile } from '~/core/publication/compile'
import type { Conn } from './database'
import { listClasses, listEquipment } from './equipment'
import { listMadeUpSources } from './source'
import { listTags } from './tag'

/** Resolves a publication against the model as it is in this transaction; refuses what preflight stops. */
export async function freeze(p: Publication, tx: Conn): Promise<Omit<Plan, 'number' | 'delivery'>> {
  const [tags, equipment, classes, madeUpSources] = await Promise.all([listTags(tx), listEquipment(tx), listClasses(tx), listMadeUpSources(tx)])
  const { body, findings } = compile(p, {
    tags: new Map(tags.map((t) => [t.id, t])),
    equipment: new Map(equipment.map((e) => [e.id, e])),
    classes: new Map(classes.map((c) => [c.id, c])),
    madeUpSources,
  })
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
  const { id, name, destinationId, trigger, shape, qos, retain } = p
  return { ...body, publicationId: id, name, destinationId, trigger, shape, qos, retain }
}

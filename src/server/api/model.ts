import { FailureError } from '~/contract/failure'
import type { Plan, Publication } from '~/contract/publication'
import { compile } from '~/core/publication/compile'
import type { Conn } from '~/store/database'
import { addClass, addEquipment, changeClass, changeEquipment, listClasses, listEquipment, removeClass, removeEquipment } from '~/store/equipment'
import { addPublication, changePublication, goLive, listPublications, removePublication, setRunning } from '~/store/publication'
import { addTags, changeTag, listTags, removeTags, tagUse } from '~/store/tag'
import { database } from '../context'
import type { Handlers } from '../endpoint'
import { askEngine } from '../engine-client'

type Keys =
  | 'listTags'
  | 'addTags'
  | 'changeTag'
  | 'removeTags'
  | 'tagUse'
  | 'tagValues'
  | 'listClasses'
  | 'addClass'
  | 'changeClass'
  | 'removeClass'
  | 'listEquipment'
  | 'addEquipment'
  | 'changeEquipment'
  | 'removeEquipment'
  | 'listPublications'
  | 'addPublication'
  | 'changePublication'
  | 'removePublication'
  | 'previewPublication'
  | 'goLive'
  | 'pausePublication'
  | 'resumePublication'

/** Resolves a publication against the model as it is in this transaction; refuses what preflight stops. */
async function freeze(p: Publication, tx: Conn): Promise<Omit<Plan, 'number' | 'delivery'>> {
  const [tags, equipment, classes] = await Promise.all([listTags(tx), listEquipment(tx), listClasses(tx)])
  const { body, findings } = compile(p, {
    tags: new Map(tags.map((t) => [t.id, t])),
    equipment: new Map(equipment.map((e) => [e.id, e])),
    classes: new Map(classes.map((c) => [c.id, c])),
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

export const modelHandlers: Pick<Handlers, Keys> = {
  listTags: () => listTags(database()),
  addTags: ({ body }) => addTags(database(), body.tags),
  changeTag: ({ params, body }) => changeTag(database(), params.id!, body),
  removeTags: ({ body }) => removeTags(database(), body.ids),
  tagUse: ({ params }) => tagUse(database(), params.id!),
  tagValues: async ({ query }) => (await askEngine(`/values?tags=${encodeURIComponent(query.tags)}`)).json(),
  listClasses: () => listClasses(database()),
  addClass: ({ body }) => addClass(database(), body),
  changeClass: ({ params, body }) => changeClass(database(), params.id!, body),
  removeClass: ({ params }) => removeClass(database(), params.id!),
  listEquipment: () => listEquipment(database()),
  addEquipment: ({ body }) => addEquipment(database(), body),
  changeEquipment: ({ params, body }) => changeEquipment(database(), params.id!, body),
  removeEquipment: ({ params }) => removeEquipment(database(), params.id!),
  listPublications: () => listPublications(database()),
  addPublication: ({ body }) => addPublication(database(), body),
  changePublication: ({ params, body }) => changePublication(database(), params.id!, body),
  removePublication: ({ params }) => removePublication(database(), params.id!),
  previewPublication: async ({ body, request }) => (await askEngine('/publications/preview', { body, signal: request.signal })).json(),
  goLive: ({ params, caller }) => goLive(database(), params.id!, caller.name, freeze),
  pausePublication: ({ params }) => setRunning(database(), params.id!, false),
  resumePublication: ({ params }) => setRunning(database(), params.id!, true),
}

import { addClass, changeClass, classVersions, listClasses, removeClass } from '~/store/class'
import { listEquipment } from '~/store/equipment'
import { addEquipment, changeEquipment, editEquipment, removeEquipment } from '~/store/equipment-edit'
import { freeze } from '~/store/freeze'
import { addPublication, changePublication, goLive, listPublications, removePublication, setRunning } from '~/store/publication'
import { listRecords } from '~/store/record'
import { database } from '../context'
import type { Handlers } from '../endpoint'
import { askEngine } from '../engine-client'

type Keys =
  | 'listClasses'
  | 'addClass'
  | 'changeClass'
  | 'removeClass'
  | 'classVersions'
  | 'listEquipment'
  | 'editEquipment'
  | 'listRecords'
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

export const modelHandlers: Pick<Handlers, Keys> = {
  listClasses: () => listClasses(database()),
  addClass: ({ body, caller }) => addClass(database(), body, caller.name),
  changeClass: ({ params, body, caller }) => changeClass(database(), params.id!, body, caller.name),
  classVersions: ({ params }) => classVersions(database(), params.id!),
  removeClass: ({ params }) => removeClass(database(), params.id!),
  editEquipment: ({ body }) => editEquipment(database(), body),
  listRecords: () => listRecords(database()),
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

import { z } from 'zod'
import {
  ClassDraft,
  ClassVersion,
  Equipment,
  EquipmentBrief,
  EquipmentClass,
  EquipmentDraft,
  EquipmentEdit,
  EquipmentEdited,
  RecordColumn,
} from '../equipment'
import { Found } from '../find'
import { Id } from '../id'
import { paths } from '../paths'
import { AsSent, EquipmentRule, TagPick } from '../publication'
import { RowPick } from '../rows'
import { Begun, list, type Route } from './route'

/** Classes and equipment. */
export const modelRoutes = {
  find: {
    ...paths.find,
    role: 'viewer',
    group: 'Equipment',
    summary: 'Everything of all kinds whose name has these words; what is called just so first',
    query: z.object({ q: z.string().max(200).default('') }),
    answer: list(Found),
  },
  listClasses: {
    ...paths.listClasses,
    role: 'viewer',
    group: 'Equipment',
    summary: 'All equipment classes',
    answer: list(EquipmentClass),
  },
  addClass: {
    ...paths.addClass,
    role: 'engineer',
    group: 'Equipment',
    summary: 'Add a class',
    body: ClassDraft,
    answer: EquipmentClass,
  },
  changeClass: {
    ...paths.changeClass,
    role: 'engineer',
    group: 'Equipment',
    summary: 'Change a class',
    query: Begun,
    body: ClassDraft,
    answer: EquipmentClass,
  },
  removeClass: {
    ...paths.removeClass,
    role: 'engineer',
    group: 'Equipment',
    summary: 'Remove a class without equipment',
    answer: null,
  },
  classVersions: {
    ...paths.classVersions,
    role: 'viewer',
    group: 'Equipment',
    summary: 'All states a class has had, the newest first',
    answer: list(ClassVersion),
  },
  listRecords: {
    ...paths.listRecords,
    role: 'viewer',
    group: 'Equipment',
    summary: 'Places in record sources that members are filled from, with their handles',
    answer: list(RecordColumn),
  },
  editEquipment: {
    ...paths.editEquipment,
    role: 'engineer',
    group: 'Equipment',
    summary: 'Add, change and remove many equipment: all or none',
    body: EquipmentEdit,
    bodyMax: 64,
    answer: EquipmentEdited,
  },
  listEquipment: {
    ...paths.listEquipment,
    role: 'viewer',
    group: 'Equipment',
    summary: 'The whole hierarchy',
    answer: list(Equipment),
  },
  outlineEquipment: {
    ...paths.outlineEquipment,
    role: 'viewer',
    group: 'Equipment',
    summary: 'Names, places and classes of all equipment, without what fills their members',
    answer: list(EquipmentBrief),
  },
  matchingEquipment: {
    ...paths.matchingEquipment,
    role: 'viewer',
    group: 'Equipment',
    summary: 'Which equipment a rule of a publication is for now',
    body: EquipmentRule,
    answer: z.object({ ids: z.array(Id) }),
  },
  matchingTags: {
    ...paths.matchingTags,
    role: 'viewer',
    group: 'Tags',
    summary: 'Which tags a publication without equipment is for now',
    body: TagPick,
    answer: z.object({ tags: z.number().int(), folders: z.number().int(), first: z.array(z.string()).describe('Names of the first ones') }),
  },
  equipmentAsSent: {
    ...paths.equipmentAsSent,
    role: 'viewer',
    group: 'Equipment',
    summary: 'The first of these equipment as it would be sent, and the names of the members that all of them have',
    body: z.object({ ids: z.array(Id).max(10_000), tags: TagPick.optional(), rows: RowPick.optional() }),
    answer: AsSent,
  },
  addEquipment: {
    ...paths.addEquipment,
    role: 'engineer',
    group: 'Equipment',
    summary: 'Add equipment',
    body: EquipmentDraft,
    answer: Equipment,
  },
  changeEquipment: {
    ...paths.changeEquipment,
    role: 'engineer',
    group: 'Equipment',
    summary: 'Change equipment and its bindings',
    body: EquipmentDraft,
    answer: Equipment,
  },
  removeEquipment: {
    ...paths.removeEquipment,
    role: 'engineer',
    group: 'Equipment',
    summary: 'Remove equipment with nothing under it',
    answer: null,
  },
} as const satisfies Record<string, Route>

import { ClassDraft, Equipment, EquipmentClass, EquipmentDraft } from '../equipment'
import { list, type Route } from './route'

/** Classes and equipment. */
export const modelRoutes = {
  listClasses: {
    method: 'GET',
    path: '/api/classes',
    role: 'viewer',
    group: 'Equipment',
    summary: 'All equipment classes',
    answer: list(EquipmentClass),
  },
  addClass: {
    method: 'POST',
    path: '/api/classes',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Add a class',
    body: ClassDraft,
    answer: EquipmentClass,
  },
  changeClass: {
    method: 'PUT',
    path: '/api/classes/:id',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Change a class',
    body: ClassDraft,
    answer: EquipmentClass,
  },
  removeClass: {
    method: 'DELETE',
    path: '/api/classes/:id',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Remove a class without equipment',
    answer: null,
  },
  listEquipment: {
    method: 'GET',
    path: '/api/equipment',
    role: 'viewer',
    group: 'Equipment',
    summary: 'The whole hierarchy',
    answer: list(Equipment),
  },
  addEquipment: {
    method: 'POST',
    path: '/api/equipment',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Add equipment',
    body: EquipmentDraft,
    answer: Equipment,
  },
  changeEquipment: {
    method: 'PUT',
    path: '/api/equipment/:id',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Change equipment and its bindings',
    body: EquipmentDraft,
    answer: Equipment,
  },
  removeEquipment: {
    method: 'DELETE',
    path: '/api/equipment/:id',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Remove equipment with nothing under it',
    answer: null,
  },
} as const satisfies Record<string, Route>

import { createContext, useContext } from 'react'
import type { Caller } from '~/contract/person'
import { allows, type Role } from '~/contract/role'

export const CallerContext = createContext<Caller>({ kind: 'person', id: '', name: '', role: 'viewer' })

/** Whether who looks may do what needs this role: what they may not is shown switched off, with the reason. */
export function useMay(role: Role): boolean {
  return allows(useContext(CallerContext).role, role)
}

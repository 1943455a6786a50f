import { z } from 'zod'

/** viewer looks; operator also starts, pauses, acknowledges; engineer also edits; administrator also people and credentials. */
export const Role = z.enum(['viewer', 'operator', 'engineer', 'administrator'])
export type Role = z.infer<typeof Role>

const rank: Record<Role, number> = { viewer: 0, operator: 1, engineer: 2, administrator: 3 }

/** Whether somebody with role `has` may do what needs role `needs`. */
export function allows(has: Role, needs: Role): boolean {
  return rank[has] >= rank[needs]
}

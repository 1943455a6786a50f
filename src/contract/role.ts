/** viewer looks; operator also starts, pauses, acknowledges; engineer also edits; administrator also people and credentials. */
export const roles = ['viewer', 'operator', 'engineer', 'administrator'] as const
export type Role = (typeof roles)[number]

/** Whether somebody with role `has` may do what needs role `needs`. */
export function allows(has: Role, needs: Role): boolean {
  return roles.indexOf(has) >= roles.indexOf(needs)
}

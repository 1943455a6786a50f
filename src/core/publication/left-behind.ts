import type { Plan } from '~/contract/publication'
import type { LeftBehind } from '../address/kind'
import { kindOf } from '../address/kinds'

/** What the far end keeps of the plan before, and the new one will not replace. What has values in its place or key is not known. */
export const leftBehind = (before: Pick<Plan, 'address' | 'messages'>, after: Pick<Plan, 'address' | 'messages'>): LeftBehind[] =>
  kindOf(before.address).leftBehind(before, after)

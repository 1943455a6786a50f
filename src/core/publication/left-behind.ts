import type { Plan } from '~/contract/publication'
import { kindOf } from '../address/kinds'

/** Places at which the far end keeps a message of the plan before that the new one will not replace. Those with values in them are not known. */
export const leftBehind = (before: Pick<Plan, 'address' | 'messages'>, after: Pick<Plan, 'address' | 'messages'>): string[] =>
  kindOf(before.address).leftBehind(before, after)

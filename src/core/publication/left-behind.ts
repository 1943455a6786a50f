import type { Plan } from '~/contract/publication'

/** Topics at which a broker keeps a message of the plan before that the new one will not replace. Those with values in them are not known. */
export function leftBehind(before: Pick<Plan, 'retain' | 'messages'>, after: Pick<Plan, 'retain' | 'messages'>): string[] {
  if (!before.retain) return []
  const kept = new Set(after.retain ? after.messages.flatMap((m) => (typeof m.topic === 'string' ? [m.topic] : [])) : [])
  return [...new Set(before.messages.flatMap((m) => (typeof m.topic === 'string' && m.topic !== '' && !kept.has(m.topic) ? [m.topic] : [])))]
}

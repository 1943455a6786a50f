import type { Condition } from '~/contract/live'
import type { Wrong } from '~/contract/wrong'
import { outboxWords } from '~/core/proof/outbox-words'
import type { Engine } from './engine'

/** An outbox so full is told before it is full. */
const FULL_SHARE = 0.8

const trouble = (where: Wrong['where'], subjectId: string | null, subject: string, c: Pick<Condition, 'since' | 'reason' | 'hint'>): Wrong => ({
  severity: 'bad',
  where,
  subjectId,
  subject,
  since: c.since,
  cause: c.reason,
  hint: c.hint,
})

/** What is wrong at this moment, each once at its cause, and what will be if nobody does anything. */
export function wrongNow(engine: Engine): { now: Wrong[]; soon: Wrong[] } {
  const now: Wrong[] = []
  const soon: Wrong[] = []
  const store = engine.storeState.trouble
  if (store) now.push(trouble('database', null, 'Database', { since: store.since, reason: store.message, hint: store.hint }))
  const down = new Set<string>()
  for (const [id, s] of Object.entries(engine.sourceConditions()))
    if (s.state === 'trouble') now.push(trouble('source', id, engine.sources.get(id)?.source.name ?? id, s))
  for (const [lane, d] of engine.destinations) {
    const { name, parentId } = d.destination
    const id = parentId ?? lane
    const sender = d.present()
    if (sender.state === 'trouble') {
      down.add(lane)
      // What keeps a destination away keeps its nodes away.
      if (parentId === null || engine.destinations.get(parentId)?.present().state !== 'trouble') now.push(trouble('destination', id, name, sender))
    }
    const { waiting: held } = d.outbox
    if (d.destination.node !== '' && sender.state === 'off' && d.destination.enabled && held > 0)
      now.push({
        ...outboxTrouble(id, name),
        since: sender.since,
        cause: `${held} ${held === 1 ? 'message waits' : 'messages wait'} for node ${d.destination.node}, which is not live`,
        hint: 'They go out after its next birth: let a publication go live as this node, or remove the one that made them',
      })
    const witness = d.witness?.present()
    // One link leads to both: what keeps the sender away keeps the witness away.
    if (witness?.state === 'trouble' && sender.state !== 'trouble')
      now.push(trouble('witness', id, `Witness of ${name}`, { ...witness, hint: witness.hint || 'Until it is back nobody can say what arrives' }))
    const { bytes, cap, waiting } = d.outbox
    const told = { bytes, cap, waiting, sinceMs: sender.state === 'trouble' ? engine.clock.wall() - sender.since : null }
    const words = outboxWords(told)
    if (words)
      (bytes > FULL_SHARE * cap ? now : soon).push({
        ...outboxTrouble(id, name),
        since: words.fullAt && engine.clock.wall() + words.fullAt,
        cause: words.text,
      })
  }
  for (const [id, p] of Object.entries(engine.publicationConditions())) {
    const plan = engine.publishers.get(id)?.plan
    if (p.state === 'trouble' && !(plan && (down.has(engine.publications.laneOf(plan)) || store)))
      now.push(trouble('publication', id, plan?.name ?? engine.publications.broken.get(id)?.plan.name ?? id, p))
  }
  now.push(...engine.tagTroubles.now())
  return { now: now.sort((a, b) => (a.severity === b.severity ? (b.since ?? 0) - (a.since ?? 0) : a.severity === 'bad' ? -1 : 1)), soon }
}

const outboxTrouble = (id: string, name: string): Omit<Wrong, 'since' | 'cause'> => ({
  severity: 'uncertain',
  where: 'outbox',
  subjectId: id,
  subject: `Outbox of ${name}`,
  hint: 'Give it more room, or mend the link: beyond its limit the oldest messages are dropped',
})

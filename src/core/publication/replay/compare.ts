import type { Replay, ReplayDifference } from '~/contract/replay'
import type { Reading } from '~/core/shape/shape'
import { displayValue } from '~/core/value/datatype'

/** A message, as it was sent or as it would have been. */
export interface ReplayMessage {
  /** Whose it is: the same equipment and member have the same, whatever the address. */
  whose: string
  topic: string
  /** When it was produced, epoch ms. */
  at: number
  octets: number
  readings: readonly Reading[]
}

/** Two messages about the same are one another's when they were produced at once; else within this, ms. */
const TOGETHER_MS = 1000
const DIFFERENCES = 200
const MEMBERS = 12
const TOPICS = 50

const shown = (r: Reading | undefined): string | null => (r ? `${displayValue(r.value)}${r.quality === 'good' ? '' : ` (${r.quality})`}` : null)
const key = (r: Reading) => `${r.equipment ?? ''} ${r.member}`

/** Members whose value or quality differs between two messages. */
export function membersThatDiffer(sent: readonly Reading[], edited: readonly Reading[]): ReplayDifference['members'] {
  const after = new Map(edited.map((r) => [key(r), r]))
  const out: ReplayDifference['members'] = []
  for (const r of sent) {
    const other = after.get(key(r))
    after.delete(key(r))
    if (!other || !(other.value === r.value || Object.is(other.value, r.value)) || other.quality !== r.quality)
      out.push({ member: r.member, sent: shown(r), edited: shown(other) })
  }
  for (const r of after.values()) out.push({ member: r.member, sent: null, edited: shown(r) })
  return out
}

function difference(kind: ReplayDifference['kind'], sent: ReplayMessage | null, edited: ReplayMessage | null): ReplayDifference {
  const one = (edited ?? sent)!
  const members = kind === 'changed' ? membersThatDiffer(sent!.readings, edited!.readings) : []
  return {
    kind,
    at: one.at,
    topic: one.topic,
    octets: { sent: sent?.octets ?? null, edited: edited?.octets ?? null },
    members: members.slice(0, MEMBERS),
    memberCount: members.length,
  }
}

const byWhose = (all: readonly ReplayMessage[]) => {
  const out = new Map<string, ReplayMessage[]>()
  for (const m of all) {
    const list = out.get(m.whose)
    if (list) list.push(m)
    else out.set(m.whose, [m])
  }
  return out
}

/** Pairs two lists in time, each message with the first of the other that lies within `ms`; gives those that are left. */
function pairs(sent: readonly ReplayMessage[], edited: readonly ReplayMessage[], ms: number, paired: (a: ReplayMessage, b: ReplayMessage) => void) {
  const left: { sent: ReplayMessage[]; edited: ReplayMessage[] } = { sent: [], edited: [] }
  let next = 0
  for (const m of sent) {
    while (next < edited.length && edited[next]!.at < m.at - ms) left.edited.push(edited[next++]!)
    const other = edited[next]
    if (other && other.at <= m.at + ms) {
      next++
      paired(m, other)
    } else left.sent.push(m)
  }
  for (; next < edited.length; next++) left.edited.push(edited[next]!)
  return left
}

const sumOf = (all: readonly ReplayMessage[]) => ({ messages: all.length, octets: all.reduce((sum, m) => sum + m.octets, 0) })

/** Holds what was sent against what would have been sent: messages of the same come in pairs, in order, as near in time as they lie. */
export function compareReplay(sent: readonly ReplayMessage[], edited: readonly ReplayMessage[]): Omit<Replay, 'from' | 'to' | 'cut' | 'notes'> {
  const counts = { same: 0, changed: 0, held: 0, added: 0 }
  const differences: ReplayDifference[] = []
  const differs = (d: ReplayDifference) => {
    counts[d.kind]++
    differences.push(d)
  }
  const after = byWhose(edited)
  for (const [whose, list] of byWhose(sent)) {
    const others = after.get(whose) ?? []
    after.delete(whose)
    const paired = (m: ReplayMessage, other: ReplayMessage) => {
      if (other.topic === m.topic && membersThatDiffer(m.readings, other.readings).length === 0) counts.same++
      else differs(difference('changed', m, other))
    }
    const left = pairs(list, others, 0, paired)
    const alone = pairs(left.sent, left.edited, TOGETHER_MS, paired)
    for (const m of alone.sent) differs(difference('held', m, null))
    for (const m of alone.edited) differs(difference('added', null, m))
  }
  for (const list of after.values()) for (const m of list) differs(difference('added', null, m))
  return {
    sent: sumOf(sent),
    edited: sumOf(edited),
    ...counts,
    ...topicsOf(sent, edited),
    differences: differences.sort((a, b) => a.at - b.at).slice(0, DIFFERENCES),
  }
}

function topicsOf(sent: readonly ReplayMessage[], edited: readonly ReplayMessage[]): Pick<Replay, 'topics' | 'topicCount'> {
  const topics = new Map<string, Replay['topics'][number]>()
  const of = (topic: string) => {
    let t = topics.get(topic)
    if (!t) topics.set(topic, (t = { topic, sent: { messages: 0, octets: 0 }, edited: { messages: 0, octets: 0 } }))
    return t
  }
  for (const [all, side] of [
    [sent, 'sent'],
    [edited, 'edited'],
  ] as const)
    for (const m of all) {
      const sum = of(m.topic)[side]
      sum.messages++
      sum.octets += m.octets
    }
  const apart = (t: Replay['topics'][number]) => Math.abs(t.sent.octets - t.edited.octets)
  return { topics: [...topics.values()].sort((a, b) => apart(b) - apart(a)).slice(0, TOPICS), topicCount: topics.size }
}

import type { JournalMessage } from '~/contract/journal'
import type { Verdict } from '~/contract/live'
import type { GlyphState } from '~/ui/Glyph'

/** One hop of a message's way. */
export interface TrailStep {
  name: string
  /** Epoch ms; null: it was not there, or nobody knows. */
  at: number | null
  /** Since the hop before that has a time, ms. */
  took: number | null
  note: string
}

export const verdictWords: Record<Verdict | 'waiting', string> = {
  confirmed: 'confirmed',
  late: 'late',
  disordered: 'disordered',
  doubled: 'doubled',
  altered: 'altered',
  missing: 'missing',
  dropped: 'dropped',
  rejected: 'rejected',
  unknown: 'unknown',
  waiting: 'on its way',
}

export const verdictGlyph: Partial<Record<Verdict | 'waiting', GlyphState>> = {
  confirmed: 'good',
  late: 'uncertain',
  disordered: 'uncertain',
  doubled: 'uncertain',
  altered: 'bad',
  missing: 'bad',
  dropped: 'bad',
  rejected: 'bad',
}

/** What a verdict means for somebody who looks at one message. */
export const verdictMeaning: Record<Verdict | 'waiting', string> = {
  confirmed: 'Arrived once, in time, in order, as it was sent.',
  late: 'Arrived after the limit of its destination.',
  disordered: 'Arrived after one that was sent later on its topic.',
  doubled: 'Arrived more than once.',
  altered: 'Arrived with another payload than was sent.',
  missing: 'The destination acknowledged it, and the witness did not see it within the limit.',
  dropped: 'Was given up before it went out: the outbox was full, it waited too long, or somebody cleared it.',
  rejected: 'The destination rejected it for good: it lies aside, with the reason.',
  unknown: 'Nobody can say what became of it: no witness was there to see it.',
  waiting: 'Has no verdict yet.',
}

const answerName = (verdict: JournalMessage['verdict']) => (verdict === 'rejected' ? 'Rejected' : verdict === 'dropped' ? 'Given up' : 'Acknowledged')

/** The way of a message, hop by hop. Where nothing was kept of it, what is certain all the same. */
export function trailOf(m: Pick<JournalMessage, 'deviceAt' | 'producedAt' | 'storedAt' | 'hops' | 'verdict'>): TrailStep[] {
  const { hops, verdict } = m
  const unsent = hops === null ? (verdict === 'waiting' ? 'not yet, or not noted' : 'not noted') : 'never'
  const again = (hops?.sendings ?? 0) > 1 ? `${hops!.sendings === 255 ? 'more than 254' : hops!.sendings} times` : ''
  const steps: Omit<TrailStep, 'took'>[] = [
    { name: 'Read at the device', at: m.deviceAt, note: '' },
    { name: 'Produced', at: m.producedAt, note: '' },
    { name: 'Stored in the outbox', at: m.storedAt, note: '' },
    { name: 'Sent', at: hops?.sentAt ?? null, note: hops?.sentAt ? again : unsent },
    { name: answerName(verdict), at: hops?.answeredAt ?? null, note: hops?.answeredAt ? '' : unsent },
    { name: 'Seen by the witness', at: hops?.seenAt ?? null, note: hops?.seenAt ? '' : unsent },
  ]
  let before: number | null = null
  return steps.map((step) => {
    const took = step.at === null || before === null ? null : step.at - before
    before = step.at ?? before
    return { ...step, took }
  })
}

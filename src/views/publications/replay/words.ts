import type { Replay } from '~/contract/replay'
import { countText } from '~/ui/time'

/** Spans that can be replayed, minutes. */
export const spans = [
  { value: '10', label: 'last 10 min' },
  { value: '60', label: 'last hour' },
  { value: '360', label: 'last 6 h' },
] as const

/** One figure against another: `-41 %`, `+3 %`, `the same`. */
export function shareText(now: number, before: number): string {
  if (now === before) return 'the same'
  if (before === 0) return '-'
  const share = (100 * (now - before)) / before
  const figure = Math.abs(share) < 1 ? share.toFixed(1) : String(Math.round(share))
  return `${share > 0 ? '+' : ''}${figure} %`
}

/** What a replay comes to, in one sentence. */
export function verdictOfReplay(r: Pick<Replay, 'sent' | 'same' | 'changed' | 'held' | 'added'>): string {
  const { sent, same, changed, held, added } = r
  if (sent.messages === 0 && added === 0) return 'Nothing was sent in that time, and nothing would have been.'
  if (changed + held + added === 0) return `All ${countText(same)} messages would have been the same.`
  const parts = [
    same > 0 ? `${countText(same)} would have been the same` : '',
    changed > 0 ? `${countText(changed)} would have differed` : '',
    held > 0 ? `${countText(held)} would not have been sent` : '',
    added > 0 ? `${countText(added)} more would have been sent` : '',
  ].filter((p) => p !== '')
  return `Of ${countText(sent.messages)} messages ${parts.join(', ')}.`
}

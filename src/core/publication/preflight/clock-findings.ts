import type { PeerClock } from '~/contract/clock'
import type { Finding } from '~/contract/publication'
import { offsetMeaning } from '../../proof/peer-time'
import { ago } from '../../proof/way-text'

/** A peer that tells its time: a source that values come from, or the destination. */
export type NamedClock = Pick<PeerClock, 'kind' | 'id' | 'name' | 'offsetMs' | 'withinMs'>

/** Clocks that a publication depends on and that are not in step with ours: what is off by little is only told. */
export function clockFindings(clocks: readonly NamedClock[]): Finding[] {
  return clocks.flatMap((c): Finding[] => {
    const { state, words } = offsetMeaning(c)
    if (state === 'good') return []
    const way = c.offsetMs > 0 ? 'ahead of' : 'behind'
    return [
      {
        severity: 'warns',
        section: c.kind === 'source' ? 'what' : 'through',
        message: `The clock of ${c.name} is ${ago(Math.abs(c.offsetMs))} ${way} ours`,
        hint: `${words.replace(/^(ahead|behind): ./, (start) => start.slice(-1).toUpperCase())}: set the one right that is wrong`,
        mend: { label: 'Show all clocks', href: '/proof/clocks' },
        passing: true,
        ...(state === 'uncertain' && { told: true }),
      },
    ]
  })
}

import type { Reach } from '~/contract/publication'
import { countText } from '~/ui/time'
import { spanWords } from '../when/words'

const messages = (n: number) => `${few(n)} ${few(n) === '1' ? 'message' : 'messages'}`
const few = (n: number) => (n >= 100 ? countText(Math.round(n)) : String(Number(n.toPrecision(2))))

/** `holds 9 h at this rate`; empty: not known. */
export function holdsWords({ hours }: Reach): string {
  if (hours === null) return ''
  const rounded = hours >= 48 ? `${few(hours / 24)} d` : hours >= 1 ? `${few(hours)} h` : spanWords(Math.max(60, Math.round(hours * 60) * 60))
  return `holds ${rounded} at this rate`
}

/** `31 messages a minute of 214 octets; the outbox holds 9 h at this rate`; empty: nothing is known. */
export function reachWords({ perSecond, octets, hours, recordedS }: Reach): string {
  if (perSecond === null) return ''
  const rate = perSecond >= 1 || perSecond === 0 ? `${messages(perSecond)} a second` : `${messages(perSecond * 60)} a minute`
  const size = octets === null ? '' : ` of ${countText(octets)} octets`
  const holds = holdsWords({ perSecond, octets, hours })
  const by = recordedS === undefined ? '' : `, by what its tags did in the last ${spanWords(Math.max(60, Math.round(recordedS / 60) * 60))}`
  return `${rate}${size}${by}${holds && `; the outbox ${holds}`}`
}

import type { CompareFinding, ComparePair } from '~/contract/compare'

/** A figure with four digits that count. */
export function figureText(n: number): string {
  if (n === 0) return '0'
  const size = Math.abs(n)
  if (size >= 1e7 || size < 1e-4) return n.toExponential(2)
  return String(Number(n.toPrecision(size >= 1000 ? 6 : 4)))
}

const unitText = (n: number, unit: string) => `${figureText(n)}${unit === '' ? '' : ` ${unit}`}`
const signedText = (n: number, unit: string) => (n < 0 ? `${unitText(-n, unit)} less` : `${unitText(n, unit)} more`)
const shareText = (share: number) => `${Math.round(share * 100)} %`

/** `1 h`, `2 h 30 min`. */
function hoursText(ms: number): string {
  const minutes = Math.round(Math.abs(ms) / 60_000)
  const [h, m] = [Math.floor(minutes / 60), minutes % 60]
  return [h > 0 ? `${h} h` : '', m > 0 ? `${m} min` : ''].filter(Boolean).join(' ')
}

const everyText = (ms: number) => (ms < 60_000 ? `${figureText(ms / 1000)} s` : `${figureText(ms / 60_000)} min`)

function timesText(factor: number): string {
  if (factor === -1) return 'the same with the other sign'
  if (Math.abs(factor) >= 1) return `${figureText(factor)} times as much`
  return `a part in ${figureText(1 / factor)} of it`
}

/** What arrives instead of what was held, in a few words; `tagOf`: the tag of a pair. */
export function findingWords(f: CompareFinding, unit: string, tagOf: (key: string) => string): string {
  switch (f.kind) {
    case 'factor':
      return `${timesText(f.factor)}${f.unit === '' ? '' : `, as if it were in ${f.unit}`}`
    case 'offset':
      return signedText(f.offset, unit)
    case 'line':
      return `${timesText(f.factor)} and ${signedText(f.offset, unit)}`
    case 'unit':
      return `in ${f.is}, though it says ${f.said}`
    case 'order':
      return `the octets of a ${f.type} taken in the order ${f.order}`
    case 'inverted':
      return 'yes where it was no'
    case 'shift':
      return `times ${hoursText(f.ms)} too ${f.ms > 0 ? 'late' : 'early'}`
    case 'exchanged':
      return `exchanged with ${tagOf(f.with)}`
    case 'other':
      return `what ${tagOf(f.carries)} is`
    case 'deadband':
      return `a deadband of ${unitText(f.size, unit)} hides ${shareText(f.hides)} of its movement`
    case 'seldom':
      return `told about every ${everyText(f.everyMs)}: ${shareText(f.hides)} of its movement is not`
    case 'still':
      return 'stands still, though the tag moves on'
    case 'nothing':
      return 'nothing of it arrived'
  }
}

/** What to do about it. */
export function findingHint({ finding, came }: Pick<ComparePair, 'finding' | 'came'>): string {
  const computed = came.kind === 'member' ? came.computed : ''
  switch (finding?.kind) {
    case undefined:
      return ''
    case 'factor':
    case 'offset':
    case 'line':
      return computed === '' ? 'Look at the scaling of the tag, and at what converts it on the way' : `It is computed: ${computed}`
    case 'unit':
      return 'Convert it, or say the unit that it has'
    case 'order':
      return 'Choose the other order of octets where the registers are read'
    case 'inverted':
      return computed === '' ? 'Look at the words for yes and no, and at the bit that is read' : `It is computed: ${computed}`
    case 'shift':
      return 'A time zone where UTC is meant, or a clock that is off: look at Clocks'
    case 'exchanged':
    case 'other':
      return 'Look at which tag fills which member, and at the addresses of both'
    case 'deadband':
      return 'Make it smaller; what that costs is under "What it costs" of the publication'
    case 'seldom':
      return 'Send it more often, or on change'
    case 'still':
    case 'nothing':
      return 'Find the hop at which it stops'
  }
}

const kinds: Record<CompareFinding['kind'], (n: number) => string> = {
  factor: (n) => `${n} by a factor`,
  offset: (n) => `${n} by a fixed amount`,
  line: (n) => `${n} by a factor and an amount`,
  unit: (n) => `${n} in another unit than is said`,
  order: (n) => `${n} with octets in another order`,
  inverted: (n) => `${n} with yes for no`,
  shift: (n) => `${n} with times that are off`,
  exchanged: (n) => `${n} exchanged`,
  other: (n) => `${n} with the value of another tag`,
  deadband: (n) => `${n} by a wide deadband`,
  seldom: (n) => `${n} told seldom`,
  still: (n) => `${n} standing still`,
  nothing: (n) => `${n} of which nothing arrived`,
}

/** Of so many pairs what is between them, in one sentence. */
export function compareSentence(pairs: readonly Pick<ComparePair, 'state' | 'finding'>[]): string {
  if (pairs.length === 0) return 'There is nothing to hold beside each other'
  const count = (of: (p: Pick<ComparePair, 'state' | 'finding'>) => boolean) => pairs.filter(of).length
  const wrong = count((p) => p.state === 'differs' || p.state === 'nothing')
  const little = count((p) => p.state === 'little')
  const open = count((p) => p.state === 'open')
  const unsent = count((p) => p.state === 'unsent')
  const hides = count((p) => p.state === 'agrees' && p.finding !== null)
  if (little === pairs.length) return `None of ${pairs.length} moved enough to say anything`
  if (open === pairs.length) return `Of none of ${pairs.length} anybody can say yet whether it arrived`
  if (unsent === pairs.length) return 'Nothing was sent in that time'
  const rest = pairs.length - little - open - unsent
  const undecided = open > 0 ? `; of ${open} nobody can say yet whether they arrived` : ''
  const waits = unsent > 0 ? `; of ${unsent} nothing was sent` : ''
  const silent = `${undecided}${waits}${little > 0 ? `; ${little} moved too little to say anything` : ''}`
  const hidden = hides > 0 ? `; ${hides} ${hides === 1 ? 'hides' : 'hide'} a part of what moves` : ''
  if (wrong === 0 && rest === 0) return `Nothing can be said yet${silent}`
  if (wrong === 0) return `${rest === 1 ? 'It arrives as it was' : `All ${rest} arrive as they were`}${hidden}${silent}`
  const named = new Map<CompareFinding['kind'], number>()
  for (const { state, finding } of pairs) {
    const kind = state === 'nothing' ? 'nothing' : state === 'differs' ? finding?.kind : undefined
    if (kind) named.set(kind, (named.get(kind) ?? 0) + 1)
  }
  const parts = [...named].map(([kind, n]) => kinds[kind](n))
  const verb = wrong === 1 ? 'does not arrive as it was' : 'do not arrive as they were'
  return `${wrong} of ${pairs.length} ${verb}${parts.length > 0 ? `: ${parts.join(', ')}` : ''}${hidden}${silent}`
}

/** What explains the distance between what was held and what a receiver can rebuild. */
export function explained(p: ComparePair): { what: string; most: string }[] {
  const unit = p.came.unit || p.unit
  const out: { what: string; most: string }[] = []
  const { factor, offset } = p.stated
  if (factor !== 1 || offset !== 0)
    out.push({
      what: 'Converted on the way, as is stated',
      most: `× ${figureText(factor)}${offset === 0 ? '' : ` ${offset < 0 ? '-' : '+'} ${figureText(Math.abs(offset))}`}`,
    })
  if (p.most === null) return out
  if (p.decimals > 0) out.push({ what: 'Decimals that are cut', most: unitText(p.decimals, unit) })
  if (p.between > 0)
    out.push({
      what: p.width > 0 ? `Between two messages: deadband ${unitText(p.width, unit)}` : 'Between two messages',
      most: unitText(p.between, unit),
    })
  const named = p.state === 'differs' && p.finding !== null
  out.push({
    what: named && p.unexplained > 0 ? 'What is named above' : 'Not explained',
    most: p.unexplained === 0 ? 'nothing' : unitText(p.unexplained, unit),
  })
  return out
}

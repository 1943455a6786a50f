import type { ComparePair } from '~/contract/compare'
import { figureText, findingWords } from '~/core/compare/words'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import type { ListColumn } from '~/ui/ListTable'
import { countText, durationText } from '~/ui/time'
import { TopicText } from '../../shared/TopicText'

export function stateOf({ state, finding }: Pick<ComparePair, 'state' | 'finding'>): { glyph: GlyphState; words: string } {
  if (state === 'little') return { glyph: 'idle', words: 'moved too little to say' }
  if (state === 'open') return { glyph: 'idle', words: 'nobody can say yet' }
  if (state === 'unsent') return { glyph: 'idle', words: 'nothing was sent' }
  if (state === 'nothing') return { glyph: 'bad', words: 'does not arrive' }
  if (state === 'differs') return { glyph: 'bad', words: 'differs' }
  if (finding?.kind === 'still') return { glyph: 'uncertain', words: 'is not told any more' }
  return finding ? { glyph: 'uncertain', words: 'agrees, and hides a part' } : { glyph: 'good', words: 'agrees' }
}

export function valueText(value: number | string | boolean | null): string {
  if (typeof value === 'number') return figureText(value)
  if (typeof value === 'boolean') return value ? 'yes' : 'no'
  return value ?? '-'
}

/** Where it arrives, in one line. */
export function placeText({ came }: ComparePair): string {
  return came.kind === 'tag' ? came.tag : `${came.place} · ${came.member}`
}

/** What is said of a pair in one line. */
export function pairWords(p: ComparePair, tagOf: (key: string) => string): string {
  if (p.finding) return findingWords(p.finding, p.came.unit || p.unit, tagOf)
  if (p.state === 'differs') return `${countText(p.off)} of ${countText(p.arrived)} are no value that it had`
  if (p.lost > 0) return `${countText(p.lost)} lost on the way`
  if (p.altered > 0) return `${countText(p.altered)} altered on the way`
  return ''
}

const beside = new Set(['held', 'came', 'lag'])

/** `narrow`: what the peek shows too is left out. */
export function columns(tagOf: (key: string) => string, narrow: boolean): ListColumn<ComparePair>[] {
  const all: ListColumn<ComparePair>[] = [
    { key: 'state', head: 'State', quiet: true, width: '34px', cell: (p) => <Glyph state={stateOf(p).glyph} title={stateOf(p).words} /> },
    { key: 'tag', head: 'Tag', width: '22%', strong: true, cell: (p) => p.tag, tip: (p) => p.tag },
    {
      key: 'place',
      head: 'Arrives at',
      mono: true,
      cell: (p) =>
        p.came.kind === 'tag' ? (
          p.came.tag
        ) : (
          <span className="flex min-w-0 items-baseline gap-2">
            <span className="min-w-0 overflow-hidden">
              <TopicText topic={p.came.place} />
            </span>
            <span className="shrink-0 font-sans text-muted">{p.came.member}</span>
          </span>
        ),
      tip: (p) => placeText(p),
    },
    { key: 'held', head: 'Had last', width: '92px', right: true, mono: true, cell: (p) => valueText(p.now.held.value), tip: (p) => p.unit },
    { key: 'came', head: 'Came last', width: '92px', right: true, mono: true, cell: (p) => valueText(p.now.came.value), tip: (p) => p.came.unit },
    {
      key: 'carried',
      head: 'Arrived',
      width: '104px',
      right: true,
      mono: true,
      whole: true,
      cell: (p) => `${countText(p.carried)} / ${countText(p.held)}`,
      tip: () => 'Values of the tag that arrived, of those that it had',
    },
    {
      key: 'most',
      head: 'Apart',
      width: '80px',
      right: true,
      mono: true,
      cell: (p) => (p.most === null ? '-' : figureText(p.most)),
      tip: () => 'The furthest that what a receiver can rebuild was from what the tag had',
    },
    { key: 'lag', head: 'After', width: '70px', right: true, mono: true, whole: true, cell: (p) => (p.lag ? durationText(p.lag.median) : '-') },
    {
      key: 'words',
      head: 'Between them',
      width: '24%',
      cell: (p) => pairWords(p, tagOf),
      tip: (p) => pairWords(p, tagOf),
      look: (p) => (stateOf(p).glyph === 'bad' ? 'text-bad' : ''),
    },
  ]
  return narrow ? all.filter((c) => !beside.has(c.key)) : all
}

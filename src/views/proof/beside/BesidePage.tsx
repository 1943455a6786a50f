import { useMemo, useState } from 'react'
import type { ComparePair } from '~/contract/compare'
import { compareSentence, findingWords } from '~/core/compare/words'
import { Button } from '~/ui/Button'
import { Choice, FilterBox } from '~/ui/Field'
import { ListTable } from '~/ui/ListTable'
import { Empty, Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText, Time } from '~/ui/time'
import { useFilterInAddress, useInAddress, useTextInAddress } from '../../app/address'
import { useCall } from '../../app/api'
import { Row } from '../../app/Frame'
import { Failed } from '../../shared/Failed'
import { MomentField } from '../journal/MomentField'
import { columns } from './columns'
import { PairPeek } from './PairPeek'
import { TagPairDialog } from './TagPairDialog'
import { type BesideQuery, spans, type TagPair, useCompared } from './useCompared'

const spanIn = (params: URLSearchParams) => spans.find((s) => s.value === params.get('span'))?.value ?? '10'
const spanOut = (span: BesideQuery['span']) => ({ span: span === '10' ? null : span })
const untilIn = (params: URLSearchParams) => {
  const t = Date.parse(params.get('until') ?? '')
  return Number.isNaN(t) ? null : t
}
const untilOut = (t: number | null) => ({ until: t === null ? null : new Date(t).toISOString() })
const tagsIn = (params: URLSearchParams): TagPair[] =>
  (params.get('tags') ?? '').split(',').flatMap((text) => {
    const [held, came] = text.split('~')
    return held && came ? [{ held, came }] : []
  })
const tagsOut = (tags: TagPair[]) => ({ tags: tags.length === 0 ? null : tags.map((t) => `${t.held}~${t.came}`).join(',') })

/** Each tag beside where it arrives: what it was, what came of it, and what is between them. */
export function BesidePage() {
  const publications = useCall('listPublications')
  const [of, setOf] = useTextInAddress('of')
  const [text, setText] = useFilterInAddress('q')
  const [only, setOnly] = useTextInAddress('only')
  const [span, setSpan] = useInAddress(spanIn, spanOut)
  const [until, setUntil] = useInAddress(untilIn, untilOut)
  const [tags, setTags] = useInAddress(tagsIn, tagsOut)
  const [chosen, setChosen] = useTextInAddress('pair')
  const [adding, setAdding] = useState(false)
  const query: BesideQuery = { publicationId: of, span, until, tags }
  const compared = useCompared(query)
  const all = compared.data?.pairs
  const byKey = useMemo(() => new Map(all?.map((p) => [p.key, p])), [all])
  const shown = useMemo(() => all?.filter((p) => (only === null || isOdd(p)) && matches(p, text)), [all, only, text])
  const tagOf = (key: string) => byKey.get(key)?.tag ?? 'another tag'
  const open = byKey.get(chosen ?? '')
  return (
    <>
      <Row station="proof" page="Side by side">
        <Button small onClick={() => setAdding(true)}>
          Beside another tag
        </Button>
        <Button small busy={compared.isFetching} onClick={() => void compared.refetch()}>
          Compare again
        </Button>
      </Row>
      <div className="flex flex-wrap items-center gap-2 border-b border-line px-3.5 py-1.5" role="search" aria-label="Which pairs">
        <select aria-label="Publication" className="field w-56" value={of ?? ''} onChange={(e) => setOf(e.target.value || null)}>
          <option value="">every publication that is live</option>
          {(publications.data ?? []).map((p) => (
            <option key={p.id} value={p.id}>
              {p.name}
            </option>
          ))}
        </select>
        <Choice label="Span" value={span} options={spans} onChange={setSpan} />
        <MomentField label="until" value={until} onChange={setUntil} />
        <FilterBox value={text} onChange={setText} placeholder="tag or place contains" width="w-44" />
        <label className="inline-flex items-center gap-1.5">
          <input type="checkbox" className="accent-(--clay)" checked={only !== null} onChange={(e) => setOnly(e.target.checked ? 'odd' : null)} />
          only what differs
        </label>
      </div>
      <ThreeParts
        id="beside"
        peekWidth={430}
        peek={
          chosen && (
            <PairPeek key={chosen} pairKey={chosen} query={query} listed={open} tagOf={tagOf} onRemove={open && removal(open, tags, setTags)} />
          )
        }
      >
        <Failed of={compared} />
        {compared.isPending && <Loading label="Reading what tags held and what arrived" />}
        {compared.data && shown && (
          <>
            <div className="px-4 pt-3 pb-2">
              <h2 className="text-[19px] leading-6 font-semibold" data-sentence>
                {compareSentence(compared.data.pairs)}
              </h2>
              <p className="mt-0.5 text-muted">
                From <Time at={compared.data.from} date /> to <Time at={compared.data.to} date />
                {compared.data.left > 0 && `; ${countText(compared.data.left)} more pairs are not in it: choose a publication`}
              </p>
              <ul>
                {compared.data.notes.map((note) => (
                  <li key={note} className="text-muted">
                    {note}.
                  </li>
                ))}
              </ul>
            </div>
            {shown.length === 0 && <Nothing all={compared.data.pairs.length} earlier={until !== null} />}
            {shown.length > 0 && (
              <ListTable
                label="Pairs"
                rows={shown}
                columns={columns(tagOf, chosen !== null)}
                rowKey={(p) => p.key}
                chosen={chosen}
                onChoose={setChosen}
                dense
                fixed
                scroller="min-h-0 flex-1 overflow-auto"
              />
            )}
          </>
        )}
      </ThreeParts>
      {adding && (
        <TagPairDialog
          onClose={() => setAdding(false)}
          onPick={(pair) => {
            setTags([...tags.filter((t) => t.held !== pair.held || t.came !== pair.came), pair])
            setChosen(`tags ${pair.held} ${pair.came}`)
            setAdding(false)
          }}
        />
      )}
    </>
  )
}

function Nothing({ all, earlier }: { all: number; earlier: boolean }) {
  if (all > 0) return <Empty title="Nothing found">No pair is like that. Clear the filter to see all {countText(all)}.</Empty>
  return earlier ? (
    <Empty title="Nothing was live then">None of these publications was live in that time. Choose a later moment.</Empty>
  ) : (
    <Empty title="Nothing to compare yet">
      As soon as a publication is live, each tag stands here beside where it arrives. A tag can also stand beside another one that is to be the same.
    </Empty>
  )
}

const isOdd = ({ state }: ComparePair) => state === 'differs' || state === 'nothing'

function matches(p: ComparePair, text: string): boolean {
  const words = text.trim().toLowerCase()
  if (words === '') return true
  const { came } = p
  const there = came.kind === 'tag' ? [came.tag] : [came.place, came.equipment, came.member, came.publication]
  const finding = p.finding ? findingWords(p.finding, p.came.unit, () => '') : ''
  return [p.tag, finding, ...there].some((t) => t.toLowerCase().includes(words))
}

/** Takes a pair of tags out again; undefined: it is none. */
function removal({ tagId, came }: ComparePair, tags: TagPair[], set: (tags: TagPair[]) => void): (() => void) | undefined {
  if (came.kind !== 'tag') return undefined
  return () => set(tags.filter((t) => t.held !== tagId || t.came !== came.tagId))
}

import type { ComparePair } from '~/contract/compare'
import { explained, figureText, findingHint } from '~/core/compare/words'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Fact, Heading, Loading } from '~/ui/Notes'
import { Age, countText, durationText } from '~/ui/time'
import { Failed } from '../../shared/Failed'
import { findHopOf } from '../way/words'
import { pairWords, stateOf, valueText } from './columns'
import { PairChart } from './PairChart'
import { TestValue } from './TestValue'
import { type BesideQuery, useCompared } from './useCompared'

interface Props {
  pairKey: string
  query: BesideQuery
  /** As it stands in the list: it knows what the other pairs are. */
  listed: ComparePair | undefined
  tagOf(key: string): string
  onRemove: (() => void) | undefined
}

const basisWords: Record<ComparePair['basis'], string> = {
  seen: 'as the witness saw it arrive',
  acknowledged: 'as it was acknowledged: there is no witness',
  read: 'as a source reads it back',
}

/** One pair opened: curves, figures, what explains them, and a test value. */
export function PairPeek({ pairKey, query, listed, tagOf, onRemove }: Props) {
  const found = useCompared(query, pairKey)
  const p = found.data?.pairs.find((x) => x.key === pairKey)
  if (!p || !found.data)
    return (
      <>
        <h2 className="text-[15px] font-semibold">{listed?.tag ?? 'A pair'}</h2>
        <Failed of={found} flush />
        {found.isPending && <Loading />}
        {found.data && !p && <p className="text-muted">There is no such pair in that time. Choose another time, or another pair.</p>}
      </>
    )
  // What is exchanged with what is only seen among all of them.
  const told = listed && (listed.finding?.kind === 'exchanged' || listed.finding?.kind === 'other') ? { ...p, finding: listed.finding } : p
  const state = stateOf(told)
  const words = pairWords(told, tagOf)
  return (
    <>
      <div className="flex items-start justify-between gap-2">
        <h2 className="min-w-0 text-[15px] font-semibold break-words">{p.tag}</h2>
        {onRemove && (
          <Button small kind="quiet" onClick={onRemove}>
            Take the pair out
          </Button>
        )}
      </div>
      <p className="mb-2 text-muted">
        {p.came.kind === 'tag' ? (
          <>beside {p.came.tag}</>
        ) : (
          <>
            as {p.came.member} at <span className="font-mono text-[12.5px] break-all">{p.came.place}</span>
          </>
        )}
        , {basisWords[p.basis]}
      </p>
      <p className="flex items-baseline gap-1.5" role="status">
        <Glyph state={state.glyph} />
        <span className={state.glyph === 'bad' ? 'text-bad' : ''}>
          <b>{state.words[0]!.toUpperCase() + state.words.slice(1)}</b>
          {words === '' ? '' : `: ${words}`}
        </span>
      </p>
      {told.finding && <p className="text-muted">{findingHint(told)}.</p>}
      <div className="my-2 grid grid-cols-2 gap-2">
        <Now name="Had last" side={p.now.held} unit={p.unit} look="border-slate" />
        <Now name="Came last" side={p.now.came} unit={p.came.unit} look="border-clay" />
      </div>
      <Failed of={found} flush />
      <PairChart pair={p} from={found.data.from} to={found.data.to} />
      <Figures pair={told} />
      <Links pair={p} />
      {p.writable && <TestValue pair={p} />}
    </>
  )
}

function Now({ name, side, unit, look }: { name: string; side: ComparePair['now']['held']; unit: string; look: string }) {
  return (
    <div className={`border-l-2 bg-paper px-2 py-1 ${look}`}>
      <div className="text-xs text-muted">{name}</div>
      <div className="truncate font-mono text-[15px]">
        {valueText(side.value)} <span className="text-muted">{unit}</span>
      </div>
      <div className="text-xs text-muted">
        {side.at === null ? (
          'never in this time'
        ) : (
          <>
            <Age at={side.at} /> ago
          </>
        )}
      </div>
    </div>
  )
}

function Figures({ pair: p }: { pair: ComparePair }) {
  const unit = p.came.unit || p.unit
  return (
    <>
      <Heading>How far apart</Heading>
      <div>
        <Fact name="Values that arrived, of those it had">
          {countText(p.carried)} of {countText(p.held)}
        </Fact>
        {p.off > 0 && <Fact name="Arrived, and no value that it had">{countText(p.off)}</Fact>}
        {p.lost > 0 && <Fact name="Lost on the way">{countText(p.lost)}</Fact>}
        {p.altered > 0 && <Fact name="Altered on the way, not compared">{countText(p.altered)}</Fact>}
        {p.open > 0 && <Fact name="Nobody can say yet">{countText(p.open)}</Fact>}
        {p.lag && (
          <Fact name="Arrives after (the middle one, the longest)">
            {durationText(p.lag.median)}, {durationText(p.lag.most)}
          </Fact>
        )}
        {p.most !== null && (
          <>
            <Fact name="Furthest apart">
              {figureText(p.most)} {unit}
            </Fact>
            <Fact name="Apart over the time (root of the mean square)">
              {figureText(p.rms ?? 0)} {unit}
            </Fact>
          </>
        )}
      </div>
      {p.most !== null && (
        <>
          <Heading>What explains it</Heading>
          <div>
            {explained(p).map((e) => (
              <Fact key={e.what} name={e.what}>
                {e.most}
              </Fact>
            ))}
          </div>
        </>
      )}
    </>
  )
}

function Links({ pair: { tagId, came } }: { pair: ComparePair }) {
  // A place that waits for a time is no text to look for.
  const topic: Record<string, string> = came.kind === 'member' && !came.place.includes('…') ? { topic: came.place } : {}
  const journal =
    came.kind === 'member' ? `/proof/journal?${new URLSearchParams({ to: came.destinationId, of: came.publicationId, ...topic })}` : null
  return (
    <p className="mt-2 flex flex-wrap gap-x-3 gap-y-1">
      <a className="text-slate underline" href={`/tags?tag=${tagId}`}>
        Look at the tag
      </a>
      {journal && (
        <a className="text-slate underline" href={journal}>
          Its messages
        </a>
      )}
      <a className="text-slate underline" href={findHopOf('tag', tagId)}>
        Find the hop
      </a>
    </p>
  )
}

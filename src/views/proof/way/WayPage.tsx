import { useState } from 'react'
import { type FoundWay, type Way, type WayHop, WayQuery } from '~/contract/way'
import { waySentence } from '~/core/proof/way'
import { FilterBox } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { Empty, Heading, Loading } from '~/ui/Notes'
import { ageText, Time } from '~/ui/time'
import { useParams } from '../../app/address'
import { useCall } from '../../app/api'
import { Row } from '../../app/Frame'
import { Failed } from '../../shared/Failed'
import { findHopOf, glyphOf, hopLabels, placeOf, stateWords } from './words'

/** Looks anew so often, ms. */
const LOOK_MS = 3000

/** For whatever does not arrive: the hops of its way, and at which it stops. */
export function WayPage() {
  const params = useParams()
  const asked = WayQuery.safeParse({ of: params.get('of'), id: params.get('id') })
  return (
    <>
      <Row station="proof" page="Find the hop">
        {asked.success && (
          <a href="/proof/hop" className="text-slate underline">
            Ask for another
          </a>
        )}
      </Row>
      <main className="min-h-0 flex-1 overflow-auto px-4 py-3">
        {asked.success ? <Found key={`${asked.data.of} ${asked.data.id}`} asked={asked.data} /> : <Which />}
      </main>
    </>
  )
}

function Found({ asked }: { asked: WayQuery }) {
  const found = useCall('findHop', { query: asked, refetchMs: LOOK_MS })
  const f = found.data
  const [first] = f?.ways ?? []
  return (
    <>
      {found.isPending && <Loading />}
      <Failed of={found} flush />
      {f && first && (
        <>
          <div role="status" aria-label="Where it stops">
            <h2 className="max-w-4xl text-[19px] leading-6 font-semibold">{waySentence(first)}</h2>
          </div>
          <p className="mt-1 mb-3 text-muted">
            {asked.of === 'tag' ? 'The tag' : asked.of === 'publication' ? 'The publication' : 'All that goes to'} <b>{f.subject}</b>; looked at{' '}
            <Time at={f.at} />, and again every few seconds
          </p>
          <div className="grid max-w-6xl gap-3">
            {f.ways.map((way, i) => (
              <WayCard key={way.publicationId ?? 'none'} way={way} found={f} open={i === 0} alone={f.ways.length === 1} />
            ))}
          </div>
          {f.more > 0 && <p className="mt-2 text-muted">And {f.more} more publications, which are not walked here.</p>}
        </>
      )}
    </>
  )
}

interface CardProps {
  way: Way
  found: FoundWay
  open: boolean
  alone: boolean
}

function WayCard({ way, found, open, alone }: CardProps) {
  const [shown, setShown] = useState(open)
  const answer = way.at === null ? null : way.hops[way.at]!
  // Clauses are called after where they go.
  const goes = way.destination !== '' && !way.publication.endsWith(way.destination)
  const title = [way.publication, goes ? way.destination : ''].filter(Boolean).join(' to ') || 'Its way'
  return (
    <section aria-label={title} className="rounded-sm border border-line bg-sheet">
      {!alone && (
        <button
          type="button"
          aria-expanded={shown}
          onClick={() => setShown(!shown)}
          className="grid w-full grid-cols-[14px_minmax(0,280px)_minmax(0,1fr)] items-baseline gap-3 px-3 py-2 text-left hover:bg-paper"
        >
          <Glyph state={answer ? glyphOf[answer.state] : 'good'} />
          <span className="font-semibold break-words">{title}</span>
          <span className="text-muted">{waySentence(way)}</span>
        </button>
      )}
      {(shown || alone) && (
        <ol aria-label="Hop by hop" className={alone ? '' : 'border-t border-line'}>
          {way.hops.map((hop, i) => (
            <HopRow key={hop.hop} hop={hop} way={way} found={found} place={i} />
          ))}
        </ol>
      )}
    </section>
  )
}

function HopRow({ hop, way, found, place }: { hop: WayHop; way: Way; found: FoundWay; place: number }) {
  const answers = way.at === place
  const stops = way.at !== null && way.hops[way.at]!.state === 'stops'
  const behind = stops && place > way.at!
  const href = placeOf(hop, found, way.publicationId)
  const named = hop.name || hopLabels[hop.hop]
  return (
    <li
      aria-label={`${hopLabels[hop.hop]}: ${stateWords[hop.state]}`}
      aria-current={answers ? 'step' : undefined}
      className={`relative grid grid-cols-[14px_104px_minmax(0,240px)_minmax(0,1fr)_110px] items-start gap-3 border-b border-line px-3 py-[7px] last:border-b-0 ${
        answers ? (hop.state === 'stops' ? 'bg-bad-wash' : 'bg-paper') : ''
      }`}
    >
      <span
        aria-hidden
        className={`absolute left-[19px] w-0 border-l ${behind ? 'border-dashed border-muted/60' : 'border-ink/40'} ${place === 0 ? 'top-[16px]' : '-top-px'} ${
          place === way.hops.length - 1 ? 'h-[9px]' : 'bottom-0'
        }`}
      />
      <span className="relative h-[11px] pt-px">
        <Glyph state={glyphOf[hop.state]} title={stateWords[hop.state]} />
      </span>
      <span className={behind ? 'text-muted' : 'font-semibold'}>{hopLabels[hop.hop]}</span>
      <span className="break-words">
        {href && (hop.name || answers) ? (
          <a href={href} className="text-slate underline">
            {named}
          </a>
        ) : (
          hop.name
        )}
      </span>
      <span className={`break-words ${behind ? 'text-muted' : ''}`}>
        <span className={answers && hop.state === 'stops' ? 'text-bad' : ''}>{hop.words}</span>
        {hop.hint && hop.state !== 'fine' && <span className="text-muted">. {hop.hint}</span>}
      </span>
      <span className="text-right font-mono text-[12.5px] text-muted">
        {hop.state !== 'fine' && hop.since !== null && (
          <span title={new Date(hop.since).toISOString()}>for {ageText(Math.max(0, found.at - hop.since))}</span>
        )}
      </span>
    </li>
  )
}

const kinds = { tag: 'tag', publication: 'publication', destination: 'destination' } as const

/** Nothing is asked for yet: what there is to ask for. */
function Which() {
  const [text, setText] = useState('')
  const publications = useCall('listPublications')
  const destinations = useCall('listDestinations')
  const found = useCall('find', { query: { q: text }, enabled: text.trim() !== '' })
  const all = [
    ...(publications.data ?? []).map((p) => ({ kind: kinds.publication, id: p.id, name: p.name, aside: p.state })),
    ...(destinations.data ?? []).map((d) => ({ kind: kinds.destination, id: d.id, name: d.name, aside: 'all that goes to it' })),
  ]
  const rows =
    text.trim() === '' ? all : (found.data ?? []).flatMap((f) => (f.kind in kinds ? [{ ...f, kind: kinds[f.kind as keyof typeof kinds] }] : []))
  const pending = text.trim() === '' ? publications.isPending || destinations.isPending : found.isPending
  return (
    <div className="max-w-3xl">
      <h2 className="text-[19px] leading-6 font-semibold">What does not arrive?</h2>
      <p className="mt-1 mb-3 text-muted">
        Each hop of its way is looked at, from the device to the far end: at which it stops, since when, why, and how it is mended.
      </p>
      <FilterBox value={text} onChange={setText} placeholder="a tag, publication or destination" width="w-80" />
      <Failed of={publications} flush />
      <Failed of={found} flush />
      {pending && <Loading />}
      {!pending && rows.length === 0 && (
        <Empty title={text.trim() === '' ? 'Nothing is published yet' : 'Nothing is called so'}>
          {text.trim() === ''
            ? 'Make a publication first, or type the name of a tag.'
            : 'Tags, publications and destinations are found by their names.'}
        </Empty>
      )}
      {rows.length > 0 && (
        <>
          <Heading>{text.trim() === '' ? 'Publications and destinations' : 'Found'}</Heading>
          <ul aria-label="What can be asked for" className="rounded-sm border border-line bg-sheet">
            {rows.map((r) => (
              <li key={`${r.kind} ${r.id}`} className="border-b border-line last:border-b-0">
                <a href={findHopOf(r.kind, r.id)} className="grid grid-cols-[110px_minmax(0,1fr)_minmax(0,200px)] gap-3 px-3 py-1.5 hover:bg-paper">
                  <span className="text-muted">{r.kind}</span>
                  <span className="font-semibold break-words">{r.name}</span>
                  <span className="text-muted">{r.aside}</span>
                </a>
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  )
}

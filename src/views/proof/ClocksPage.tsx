import type { Clocks, PeerClock } from '~/contract/clock'
import { offsetMeaning } from '~/core/proof/peer-time'
import { serverNow } from '~/ui/clock'
import { Glyph } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Heading } from '~/ui/Notes'
import { ageText, durationText, Time } from '~/ui/time'
import { useCall } from '../app/api'
import { Row } from '../app/Frame'
import { Asked } from '../shared/Asked'

/** Looks anew so often, ms. */
const LOOK_MS = 5000

const placeOf = (p: Pick<PeerClock, 'kind' | 'id'>) =>
  p.kind === 'source' ? `/sources?source=${p.id}` : p.kind === 'destination' ? `/destinations?id=${p.id}` : null

const signed = (ms: number) => `${ms < 0 ? '-' : '+'}${durationText(Math.abs(ms))}`

const columns: ListColumn<PeerClock>[] = [
  { key: 'state', head: 'State', quiet: true, width: '36px', cell: (p) => <Glyph state={offsetMeaning(p).state} /> },
  {
    key: 'name',
    head: 'Peer',
    cell: (p) => {
      const href = placeOf(p)
      return href ? (
        <a className="text-slate underline" href={href}>
          {p.name}
        </a>
      ) : (
        p.name
      )
    },
  },
  { key: 'offset', head: 'Ahead of us', right: true, mono: true, width: '120px', cell: (p) => signed(p.offsetMs) },
  { key: 'within', head: 'Known to', right: true, mono: true, width: '110px', cell: (p) => `± ${durationText(p.withinMs)}` },
  { key: 'words', head: 'Means', cell: (p) => offsetMeaning(p).words },
  { key: 'how', head: 'Told by', width: '170px', cell: (p) => p.how },
  { key: 'at', head: 'Told', width: '110px', right: true, cell: (p) => `${ageText(Math.max(0, serverNow() - p.at))} ago` },
]

/** Latencies, certificates and tokens depend on clocks: how far each peer's is from ours. */
export function ClocksPage() {
  const clocks = useCall('clocks', { refetchMs: LOOK_MS })
  return (
    <>
      <Row station="proof" page="Clocks" />
      <main className="min-h-0 flex-1 overflow-auto px-4 py-3">
        <Asked of={clocks}>{(c) => <Told clocks={c} />}</Asked>
      </main>
    </>
  )
}

function Told({ clocks: c }: { clocks: Clocks }) {
  const off = c.peers.filter((p) => offsetMeaning(p).state !== 'good').length
  return (
    <>
      <h2 className="text-[19px] leading-6 font-semibold" data-sentence>
        {off === 0 ? 'All clocks that tell their time go with ours' : `${off} of ${c.peers.length} clocks go otherwise than ours`}
      </h2>
      <p className="mt-1 mb-3 max-w-3xl text-muted">
        It is <Time at={c.at} date /> on this machine. Latencies are device time to witness, so that they hold both clocks; certificates and tokens
        are good between two times. A difference is known to half of how long the answer took, and to half a second where times are told in whole
        seconds.
      </p>
      <div className="max-w-6xl">
        <ListTable label="Clocks" rows={c.peers} columns={columns} rowKey={(p) => `${p.kind} ${p.id}`} />
      </div>
      {c.silent.length > 0 && (
        <>
          <Heading>Tell no time</Heading>
          <ul aria-label="Tell no time" className="max-w-6xl rounded-sm border border-line bg-sheet">
            {c.silent.map((p) => (
              <li
                key={`${p.kind} ${p.id}`}
                className="grid grid-cols-[110px_minmax(0,280px)_minmax(0,1fr)] gap-3 border-b border-line px-3 py-1.5 last:border-b-0"
              >
                <span className="text-muted">{p.kind}</span>
                <a className="text-slate hover:underline" href={placeOf(p)!}>
                  {p.name}
                </a>
                <span className="text-muted">{p.why}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  )
}

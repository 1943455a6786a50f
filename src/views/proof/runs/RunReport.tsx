import { useState } from 'react'
import type { LimitResult, ProofReport, ProofRun } from '~/contract/prove'
import { runDifferences } from '~/core/prove/compare'
import { recoveryWords } from '~/core/prove/words'
import { Glyph } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Heading, WarnNote } from '~/ui/Notes'
import { countText, durationText, Time } from '~/ui/time'
import { useCall } from '../../app/api'
import { Failed } from '../../shared/Failed'
import { RunCurve } from './RunCurve'

type Delivery = ProofReport['deliveries'][number]
const number = (key: keyof Delivery['counts'], head: string): ListColumn<Delivery> => ({
  ...{ key, head, right: true, mono: true },
  cell: (d) => countText(d.counts[key]),
  look: (d) => (d.counts[key] > 0 && !/produced|confirmed/.test(key) ? 'text-bad' : ''),
})
const columns: ListColumn<Delivery>[] = [
  { key: 'publication', head: 'Publication', cell: (d) => d.publication, tip: (d) => `version ${d.version}, plan ${d.planSha256}` },
  { key: 'destination', head: 'Destination', cell: (d) => (d.witnessed ? d.destination : `${d.destination}, no witness`) },
  number('produced', 'Produced'),
  number('confirmed', 'Confirmed'),
  number('missing', 'Missing'),
  number('doubled', 'Doubled'),
  number('altered', 'Altered'),
  number('unknown', 'Unknown'),
  { key: 'p99', head: 'p99', right: true, mono: true, cell: (d) => (d.latency ? durationText(d.latency.p99) : '-') },
]
const limitGlyph = { held: 'good', broken: 'bad', unproven: 'uncertain' } as const

/** What a run has shown: each limit, what became of the messages, how long they took, what the faults did. */
export function RunReport({ report, signed, others }: { report: ProofReport; signed: boolean; others: readonly ProofRun[] }) {
  return (
    <>
      {!signed && <WarnNote>What is kept of this report is not what was signed: somebody changed it in the database.</WarnNote>}
      <Heading level={3}>Limits</Heading>
      {report.limits.length === 0 ? <p className="text-muted">No limit was to be held.</p> : <Limits limits={report.limits} />}
      <Heading level={3}>Messages</Heading>
      {report.deliveries.length === 0 ? (
        <p className="text-muted">It did not come to measure any.</p>
      ) : (
        <ListTable label="Messages of the run" rows={report.deliveries} columns={columns} rowKey={(d) => `${d.publication} ${d.destination}`} />
      )}
      <div className="mt-3">
        <RunCurve report={report} />
      </div>
      {report.faults.length > 0 && (
        <>
          <Heading level={3}>Faults</Heading>
          <ul aria-label="Faults">
            {report.faults.map((f) => (
              <li key={`${f.words} ${f.atS}`} className="flex items-center gap-2 py-0.5">
                <Glyph state={!f.begun ? 'idle' : f.recoveredS === null ? 'bad' : 'good'} />
                after {f.atS} s {f.words}: <b>{recoveryWords(f)}</b>
                <span className="text-muted">
                  {f.connections} {f.connections === 1 ? 'connection' : 'connections'}
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
      <Heading level={3}>Beside an earlier run</Heading>
      <Compare report={report} others={others} />
    </>
  )
}

function Limits({ limits }: { limits: readonly LimitResult[] }) {
  return (
    <ul aria-label="Limits">
      {limits.map((l) => (
        <li key={l.limit} className="flex items-center gap-2 py-0.5">
          <Glyph state={limitGlyph[l.outcome]} title={l.outcome} />
          {l.words}
        </li>
      ))}
    </ul>
  )
}

/** In what it differs from another run that is kept. */
function Compare({ report, others }: { report: ProofReport; others: readonly ProofRun[] }) {
  const [chosen, setChosen] = useState('')
  const other = useCall('proofRun', { params: { id: chosen }, enabled: chosen !== '' })
  const before = other.data?.report
  const found = before ? runDifferences(before, report) : null
  if (others.length === 0) return <p className="text-muted">There is none yet.</p>
  return (
    <>
      <select aria-label="Earlier run" className="field max-w-96" value={chosen} onChange={(e) => setChosen(e.target.value)}>
        <option value="">choose one</option>
        {others.map((r) => (
          <option key={r.id} value={r.id}>
            {r.name}, {new Date(r.startedAt).toLocaleString()}
          </option>
        ))}
      </select>
      <Failed of={other} />
      {found && found.length === 0 && <p className="mt-1">Nothing is another.</p>}
      {found && found.length > 0 && (
        <table className="mt-1 w-full max-w-2xl text-[13px]" aria-label="Differences">
          <thead className="text-left text-muted">
            <tr>
              <th scope="col" className="font-normal">
                what
              </th>
              <th scope="col" className="font-normal">
                <Time at={Date.parse(before!.startedAt)} date />
              </th>
              <th scope="col" className="font-normal">
                this run
              </th>
            </tr>
          </thead>
          <tbody>
            {found.map((d) => (
              <tr key={d.what} className="border-t border-line">
                <td className="py-0.5">{d.what}</td>
                <td className="font-mono">{d.before}</td>
                <td className={`font-mono ${d.better === true ? 'text-good' : d.better === false ? 'text-bad' : ''}`}>{d.after}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  )
}

import { format } from 'date-fns'
import { useState } from 'react'
import type { ProofPlan, ProofRun } from '~/contract/prove'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Empty } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { useTextInAddress } from '../../app/address'
import { useCall } from '../../app/api'
import { useMay } from '../../app/caller'
import { Row } from '../../app/Frame'
import { Asked } from '../../shared/Asked'
import { RunForm } from './RunForm'
import { RunView } from './RunView'
import { freshPlan, outcomeShort, stateOf } from './words'

const columns: ListColumn<ProofRun>[] = [
  { key: 'state', head: 'State', quiet: true, width: '30px', cell: (r) => <Glyph state={stateOf(r)} /> },
  { key: 'name', head: 'Run', cell: (r) => r.name, tip: (r) => r.name },
  { key: 'outcome', head: 'Outcome', width: '116px', cell: (r) => (r.outcome === null ? 'runs' : outcomeShort[r.outcome]) },
  { key: 'at', head: 'Begun', width: '152px', mono: true, cell: (r) => format(r.startedAt, 'yyyy-MM-dd HH:mm') },
]

/** Timed tests of publications: what is tested, how it stands, and the signed report that it ends in. */
export function ProofRunsPage() {
  const runs = useCall('listProofRuns', { refetchMs: 2000 })
  const publications = useCall('listPublications')
  const destinations = useCall('listDestinations')
  const [chosen, setChosen] = useTextInAddress('run')
  const [of] = useTextInAddress('of')
  const [begin, setBegin] = useState<ProofPlan | null>(null)
  const mayEdit = useMay('engineer')
  const all = runs.data ?? []
  const shown = all.find((r) => r.id === chosen) ?? all[0]
  const fresh = () => setBegin(freshPlan(of ? [of] : []))
  return (
    <>
      <Row station="proof" page="Proof runs">
        {mayEdit && (
          <Button small kind="main" onClick={fresh}>
            New proof run
          </Button>
        )}
      </Row>
      {begin && (
        <RunForm
          from={begin}
          publications={publications.data ?? []}
          destinations={destinations.data ?? []}
          onBegun={(id) => {
            setBegin(null)
            setChosen(id)
          }}
          onClose={() => setBegin(null)}
        />
      )}
      <Asked of={runs}>
        {(list) =>
          list.length === 0 ? (
            <main className="grid min-h-0 flex-1">
              <Empty title="No proof run yet" action={mayEdit && <Button onClick={fresh}>New proof run</Button>}>
                Measure publications for a while, with more load and with faults on purpose, against limits. It ends in a signed report that you can
                hand to somebody who trusts nobody.
              </Empty>
            </main>
          ) : (
            <ThreeParts
              id="proof-runs"
              leftWidth={460}
              left={
                <ListTable
                  label="Proof runs"
                  rows={list}
                  columns={columns}
                  rowKey={(r) => r.id}
                  chosen={shown?.id ?? null}
                  onChoose={setChosen}
                  dense
                  fixed
                />
              }
            >
              {shown && <RunView key={shown.id} id={shown.id} runs={list} onAgain={setBegin} onGone={() => setChosen(null)} />}
            </ThreeParts>
          )
        }
      </Asked>
    </>
  )
}

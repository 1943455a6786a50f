import { Plus } from 'lucide-react'
import { useState } from 'react'
import { toast } from 'sonner'
import type { Source } from '~/contract/source'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { ageText, countText, durationText, rateText, useNow } from '~/ui/time'
import { useAdding, useTextInAddress } from '../app/address'
import { failureIn, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { useFrame, useWatch } from '../app/live/live'
import { glyphOf } from '../shared/condition'
import { kindView, placeOf } from './kinds'
import { SourceForm } from './SourceForm'
import { SourcePeek } from './SourcePeek'

export function SourcesPage() {
  const sources = useCall('listSources')
  const conditions = useFrame('sources')
  const mayEdit = useMay('engineer')
  const [chosen, setChosen] = useTextInAddress('source')
  const [adding, setAdding] = useAdding()
  const [editing, setEditing] = useState<Source | null>(null)
  const close = () => {
    setAdding(false)
    setEditing(null)
  }
  useWatch({ parts: ['sources'] })
  const now = useNow()
  const list = sources.data ?? []
  const one = list.find((s) => s.id === chosen) ?? list[0]
  const add = (
    <Button kind="main" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'} onClick={() => setAdding(true)}>
      <Plus size={14} /> Add source
    </Button>
  )
  return (
    <>
      <Row station="sources" page="List">
        {add}
      </Row>
      <ThreeParts id="sources" peekWidth={340} peek={one && <SourcePeek key={one.id} source={one} onEdit={() => setEditing(one)} />}>
        {sources.isPending && <Loading />}
        {sources.error && (
          <div className="p-4">
            <ProblemNote problem={failureIn(sources.error)} action={<Button onClick={() => void sources.refetch()}>Try again</Button>} />
          </div>
        )}
        {sources.data && list.length === 0 && (
          <Empty title="No source yet" action={add}>
            A source is what tags are read from. Begin with the controller that holds the values: you need its address and a log-in.
          </Empty>
        )}
        {list.length > 0 && (
          <table className="w-full table-fixed" aria-label="Sources">
            <thead>
              <tr className="border-b border-line text-left text-xs text-muted">
                <th className="w-8">
                  <span className="sr-only">State</span>
                </th>
                <th className="px-2 py-1.5 font-semibold">Name</th>
                <th className="w-[92px] px-2 font-semibold">Protocol</th>
                <th className="w-[30%] px-2 font-semibold">Place</th>
                <th className="w-[112px] px-2 font-semibold">State</th>
                <th className="w-[64px] px-2 text-right font-semibold" title="How long it takes to answer">
                  Answer
                </th>
                <th className="w-[60px] px-2 text-right font-semibold">Tags</th>
                <th className="w-[66px] px-2 text-right font-semibold">Values</th>
                <th className="w-[62px] px-3 text-right font-semibold">Last</th>
              </tr>
            </thead>
            <tbody>
              {list.map((s) => {
                const c = conditions?.[s.id]
                return (
                  <tr
                    key={s.id}
                    data-source={s.name}
                    aria-selected={s.id === one?.id}
                    onClick={() => setChosen(s.id)}
                    onDoubleClick={() => mayEdit && setEditing(s)}
                    className={`h-[34px] cursor-default border-b border-line/70 ${s.id === one?.id ? 'bg-wash' : 'hover:bg-well/50'}`}
                  >
                    <td className="pl-3">
                      <Glyph state={glyphOf(c)} />
                    </td>
                    <td className="truncate px-2 font-semibold" title={s.name}>
                      {s.name}
                    </td>
                    <td className="truncate px-2 text-muted">{kindView(s.kind).label}</td>
                    <td className="truncate px-2 font-mono text-[12.5px]" title={placeOf(s)}>
                      {placeOf(s)}
                    </td>
                    <td className={`truncate px-2 ${c?.state === 'trouble' ? 'text-bad' : ''}`} title={c?.reason}>
                      {c ? (c.state === 'running' ? 'running' : c.reason) : '...'}
                    </td>
                    <td className="px-2 text-right font-mono text-[12.5px]">
                      {c?.state === 'running' && typeof c.roundTripMs === 'number' ? durationText(c.roundTripMs) : ''}
                    </td>
                    <td className="px-2 text-right font-mono text-[12.5px]">{countText(s.tagCount)}</td>
                    <td className="px-2 text-right font-mono text-[12.5px]">{c ? rateText(c.rate) : ''}</td>
                    <td className="px-3 text-right font-mono text-[12.5px] whitespace-nowrap">{c?.last ? ageText(now - c.last) : '-'}</td>
                  </tr>
                )
              })}
            </tbody>
          </table>
        )}
      </ThreeParts>
      {(adding || editing) && (
        <SourceForm
          source={editing}
          onClose={close}
          onSaved={(s) => {
            setChosen(s.id)
            close()
            toast.success(`${s.name} is saved`)
          }}
        />
      )}
    </>
  )
}

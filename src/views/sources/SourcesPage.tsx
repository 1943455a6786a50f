import { Plus } from 'lucide-react'
import { useState } from 'react'
import { toast } from 'sonner'
import type { Condition } from '~/contract/live'
import type { Source } from '~/contract/source'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { ageText, countText, durationText, rateText, useNow } from '~/ui/time'
import { useAdding, useTextInAddress } from '../app/address'
import { useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { useFrame, useWatch } from '../app/live/live'
import { conditionWords, glyphOf } from '../shared/condition'
import { Failed } from '../shared/Failed'
import { EmptyStation } from '../shared/Onward'
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
  const columns = columnsOf(conditions, now)
  return (
    <>
      <Row station="sources" page="List">
        {add}
      </Row>
      <ThreeParts id="sources" peekWidth={340} peek={one && <SourcePeek key={one.id} source={one} onEdit={() => setEditing(one)} />}>
        {sources.isPending && <Loading />}
        <Failed of={sources} />
        {sources.data && list.length === 0 && (
          <EmptyStation needs="engineer" title="No source yet" action={add}>
            A source is what tags are read from. Begin with the controller that holds the values: you need its address and a log-in.
          </EmptyStation>
        )}
        {list.length > 0 && (
          <ListTable
            label="Sources"
            fixed
            rows={list}
            columns={columns}
            rowKey={(s) => s.id}
            chosen={one?.id}
            onChoose={setChosen}
            onOpen={(s) => mayEdit && setEditing(s)}
            marks={(s) => ({ 'data-source': s.name })}
          />
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

type Conditions = Readonly<Record<string, Condition>> | null | undefined

function columnsOf(conditions: Conditions, now: number): ListColumn<Source>[] {
  const of = (s: Source) => conditions?.[s.id]
  return [
    { key: 'glyph', head: 'State', quiet: true, width: '36px', cell: (s) => <Glyph state={glyphOf(of(s))} /> },
    { key: 'name', head: 'Name', strong: true, cell: (s) => s.name, tip: (s) => s.name },
    { key: 'kind', head: 'Protocol', width: '92px', muted: true, cell: (s) => kindView(s.kind).label },
    { key: 'place', head: 'Place', width: '26%', mono: true, cell: placeOf, tip: placeOf },
    {
      key: 'state',
      head: 'State',
      width: '112px',
      cell: (s) => conditionWords(of(s)),
      tip: (s) => of(s)?.reason,
      look: (s) => (of(s)?.state === 'trouble' ? 'text-bad' : ''),
    },
    { key: 'answer', head: 'Answer', about: 'How long it takes to answer', width: '64px', right: true, mono: true, cell: (s) => answerText(of(s)) },
    { key: 'tags', head: 'Tags', width: '60px', right: true, mono: true, cell: (s) => countText(s.tagCount) },
    { key: 'values', head: 'Values', width: '66px', right: true, mono: true, cell: (s) => (of(s) ? rateText(of(s)!.rate) : '') },
    {
      key: 'last',
      head: 'Last',
      width: '66px',
      right: true,
      mono: true,
      whole: true,
      cell: (s) => (of(s)?.last ? ageText(now - of(s)!.last!) : '-'),
    },
  ]
}

const answerText = (c: Condition | undefined) => (c?.state === 'running' && typeof c.roundTripMs === 'number' ? durationText(c.roundTripMs) : '')

import { Plus } from 'lucide-react'
import { useState } from 'react'
import { toast } from 'sonner'
import type { Destination } from '~/contract/destination'
import type { Condition } from '~/contract/live'
import { daysLeft } from '~/core/credential/validity'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { Glyph } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Fact, Heading, Loading, WarnNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { ageText, bytesText, countText, rateText, Time, useNow } from '~/ui/time'
import { go, useAdding, useTextInAddress } from '../app/address'
import { call, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { useFrame, useWatch } from '../app/live/live'
import { findHopOf } from '../proof/way/words'
import { ConditionText, conditionWords, glyphOf } from '../shared/condition'
import { Failed } from '../shared/Failed'
import { EmptyStation } from '../shared/Onward'
import { tellFailure } from '../shared/problems'
import { Asides } from './Asides'
import { DestinationForm } from './DestinationForm'
import { isWitnessed, kindView, placeOf } from './kinds'
import { OwnView } from './OwnView'
import { WaitingDialog } from './WaitingDialog'

export function DestinationsPage() {
  const destinations = useCall('listDestinations')
  const conditions = useFrame('destinations')
  const mayEdit = useMay('engineer')
  const [chosen, setChosen] = useTextInAddress('id')
  const [adding, setAdding] = useAdding()
  const [editing, setEditing] = useState<Destination | null>(null)
  const close = () => {
    setAdding(false)
    setEditing(null)
  }
  useWatch({ parts: ['destinations'] })
  const now = useNow()
  const list = destinations.data ?? []
  const one = list.find((d) => d.id === chosen) ?? list[0]
  const add = (
    <Button kind="main" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'} onClick={() => setAdding(true)}>
      <Plus size={14} /> Add destination
    </Button>
  )
  return (
    <>
      <Row station="destinations" page="List">
        {add}
      </Row>
      <ThreeParts id="destinations" peekWidth={350} peek={one && <Peek destination={one} mayEdit={mayEdit} onEdit={() => setEditing(one)} />}>
        {destinations.isPending && <Loading />}
        <Failed of={destinations} />
        {destinations.data && list.length === 0 && (
          <EmptyStation needs="engineer" title="No destination yet" action={add}>
            A destination is where messages go. Have the host, its port, the authority that signed it and your certificate at hand; those go under
            Credentials first.
          </EmptyStation>
        )}
        {list.length > 0 && (
          <ListTable
            label="Destinations"
            rows={list}
            columns={columnsOf(conditions, now)}
            rowKey={(d) => d.id}
            chosen={one?.id}
            onChoose={setChosen}
            onOpen={(d) => mayEdit && setEditing(d)}
          />
        )}
      </ThreeParts>
      {(adding || editing) && (
        <DestinationForm
          destination={editing}
          onClose={close}
          onSaved={(d) => {
            setChosen(d.id)
            close()
            toast.success(`${d.name} is saved`)
          }}
        />
      )}
    </>
  )
}

type Conditions = ReturnType<typeof useFrame<'destinations'>>

function columnsOf(conditions: Conditions, now: number): ListColumn<Destination>[] {
  const of = (d: Destination) => conditions?.[d.id]
  return [
    { key: 'glyph', head: 'State', quiet: true, width: '36px', cell: (d) => <Glyph state={glyphOf(of(d)?.sender)} /> },
    { key: 'name', head: 'Name', strong: true, cell: (d) => d.name, tip: (d) => d.name },
    { key: 'address', head: 'Address', mono: true, cell: placeOf, tip: placeOf },
    {
      key: 'state',
      head: 'State',
      cell: (d) => conditionWords(of(d)?.sender),
      tip: (d) => of(d)?.sender.reason,
      look: (d) => (of(d)?.sender.state === 'trouble' ? 'text-bad' : ''),
    },
    { key: 'witness', head: 'Witness', cell: (d) => <WitnessGlyph on={isWitnessed(d)} condition={of(d)?.witness} /> },
    {
      key: 'waiting',
      head: 'Waiting',
      right: true,
      mono: true,
      cell: (d) => (of(d) ? countText(of(d)!.waiting) : ''),
      look: (d) => ((of(d)?.waiting ?? 0) > 1000 ? 'text-uncertain' : ''),
    },
    { key: 'sent', head: 'Sent', right: true, mono: true, cell: (d) => (of(d) ? rateText(of(d)!.sender.rate) : '') },
    { key: 'last', head: 'Last', right: true, mono: true, whole: true, cell: (d) => (of(d)?.sender.last ? ageText(now - of(d)!.sender.last!) : '-') },
  ]
}

function WitnessGlyph({ on, condition }: { on: boolean; condition: Condition | null | undefined }) {
  if (!on) return <span className="text-muted">none</span>
  return <Glyph state={glyphOf(condition)} title={condition?.reason ?? 'off'} />
}

function Peek({ destination, mayEdit, onEdit }: { destination: Destination; mayEdit: boolean; onEdit(): void }) {
  const c = useFrame('destinations')?.[destination.id]
  const ask = useAsk()
  const credentials = useCall('listCredentials', { enabled: mayEdit })
  const [looking, setLooking] = useState(false)
  const { settings } = destination
  const view = kindView(destination.kind)
  const warning = view.warning(settings)
  const name = (id: string | null) => {
    const found = credentials.data?.find((x) => x.id === id)
    if (!id) return 'none'
    if (!found) return '...'
    const days = found.facts ? daysLeft(found.facts, serverNow()) : null
    return `${found.name}${days === null ? '' : `, ${days} days left`}`
  }
  const remove = async () => {
    if (!(await ask({ title: `Remove ${destination.name}`, text: 'No publication sends to it. This cannot be undone.', act: 'Remove destination' })))
      return
    try {
      await call('removeDestination', { params: { id: destination.id } })
      await refresh('listDestinations', 'listCredentials')
    } catch (e) {
      tellFailure(e)
    }
  }
  return (
    <>
      <div className="flex items-start justify-between gap-2">
        <h2 className="text-[15px] font-semibold">{destination.name}</h2>
        <span className="flex gap-1.5">
          <Button small disabled={!mayEdit} onClick={() => go(`/publications?add=1&to=${destination.id}`)}>
            Publish to it
          </Button>
          <Button small disabled={!mayEdit} onClick={onEdit}>
            Edit
          </Button>
        </span>
      </div>
      <div className="mt-1 mb-2">
        <ConditionText condition={c?.sender} />
        {c?.sender.state === 'trouble' && c.sender.hint && <div className="mt-1">{c.sender.hint}</div>}
      </div>
      {warning && <WarnNote>{warning}</WarnNote>}
      <Heading>Outbox</Heading>
      <div className="my-1 h-[9px] overflow-hidden rounded-[2px] border border-line bg-paper" title="How full it is">
        <div
          className={`h-full ${c && c.bytes > c.capBytes * 0.8 ? 'bg-bad' : 'bg-slate'}`}
          style={{ width: `${c ? Math.max(c.bytes > 0 ? 1 : 0, (100 * c.bytes) / c.capBytes) : 0}%` }}
        />
      </div>
      <Fact name="Waiting">{c ? `${countText(c.waiting)} messages` : '-'}</Fact>
      <Fact name="On disk">{c ? `${bytesText(c.bytes)} of ${bytesText(c.capBytes)}` : '-'}</Fact>
      <div className="flex gap-1.5 pt-1.5">
        {c && c.waiting > 0 && (
          <Button small onClick={() => setLooking(true)}>
            Look inside
          </Button>
        )}
        <Button small onClick={() => go(`/proof/journal?to=${destination.id}`)}>
          Open its journal
        </Button>
        <Button small title="Why something does not arrive: each hop of its way" onClick={() => go(findHopOf('destination', destination.id))}>
          Find the hop
        </Button>
      </div>
      {looking && <WaitingDialog destination={destination} mayEdit={mayEdit} onClose={() => setLooking(false)} />}
      <Asides destinationId={destination.id} mayEdit={mayEdit} />
      <Heading>Sender</Heading>
      <view.SenderFacts settings={settings} credential={mayEdit ? name : null} />
      <Fact name="Since">{c ? <Time at={c.sender.since} date /> : '-'}</Fact>
      <Heading>Witness</Heading>
      {view.witnessed(settings) ? (
        <>
          <div className="py-1">
            <ConditionText condition={c?.witness} />
            {c?.witness?.state === 'trouble' && c.witness.hint && <div className="mt-1">{c.witness.hint}</div>}
          </div>
          <view.WitnessFacts settings={settings} credential={mayEdit ? name : null} />
          <Fact name="Seen">{c?.witness ? rateText(c.witness.rate) : '-'}</Fact>
        </>
      ) : (
        <WarnNote>Nobody reads back what is sent: the ledger ends at the acknowledgement.</WarnNote>
      )}
      {view.asked?.(settings) && <OwnView destinationId={destination.id} />}
      {destination.publicationCount === 0 && (
        <div className="mt-4">
          <Button kind="danger" disabled={!mayEdit} onClick={() => void remove()}>
            Remove
          </Button>
        </div>
      )}
    </>
  )
}

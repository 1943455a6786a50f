import { Plus } from 'lucide-react'
import type { Publication } from '~/contract/publication'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { rateText } from '~/ui/time'
import { useAdding, useTextInAddress } from '../app/address'
import { failureIn, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { useFrame, useWatch } from '../app/live/live'
import { glyphOf } from '../shared/condition'
import { Sentence } from './Sentence'

export function PublicationsPage() {
  const publications = useCall('listPublications')
  const destinations = useCall('listDestinations')
  const conditions = useFrame('publications')
  const mayEdit = useMay('engineer')
  const [id, setId] = useTextInAddress('id', 'push')
  const [adding, setAdding] = useAdding()
  const chosenId = adding ? 'new' : id
  const setChosen = (next: string) => {
    setAdding(next === 'new')
    if (next !== 'new') setId(next)
  }
  useWatch({ parts: ['publications', 'ledger'] })
  const list = publications.data ?? []
  const chosen = chosenId === 'new' ? null : (list.find((p) => p.id === chosenId) ?? list[0] ?? null)
  const add = (
    <Button kind="plain" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'} onClick={() => setChosen('new')}>
      <Plus size={14} /> New publication
    </Button>
  )
  const left = (
    <ul aria-label="Publications">
      {list.map((p) => {
        const c = p.state === 'live' ? conditions?.[p.id] : undefined
        return (
          <li key={p.id}>
            <button
              type="button"
              onClick={() => setChosen(p.id)}
              aria-pressed={p.id === chosen?.id}
              className={`flex h-[27px] w-full items-center gap-2 border-l-2 px-2.5 text-left ${p.id === chosen?.id ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'}`}
            >
              <Glyph state={glyphOf(c)} title={c ? c.state : p.state} />
              <span className="truncate" title={p.name}>
                {p.name}
              </span>
              <span className="ml-auto shrink-0 font-mono text-[11.5px] text-muted">{c ? rateText(c.rate) : p.state}</span>
            </button>
          </li>
        )
      })}
    </ul>
  )
  if (publications.isPending || destinations.isPending)
    return (
      <>
        <Row station="publications" page="List" />
        <Loading />
      </>
    )
  if (publications.error || destinations.error)
    return (
      <>
        <Row station="publications" page="List" />
        <div className="p-4">
          <ProblemNote
            problem={failureIn(publications.error ?? destinations.error)}
            action={<Button onClick={() => void publications.refetch()}>Try again</Button>}
          />
        </div>
      </>
    )
  if (list.length === 0 && chosenId !== 'new')
    return (
      <>
        <Row station="publications" page="List">
          {add}
        </Row>
        <Empty
          title="Nothing is published yet"
          action={
            <Button kind="main" disabled={!mayEdit} onClick={() => setChosen('new')}>
              <Plus size={14} /> New publication
            </Button>
          }
        >
          A publication says which equipment goes out, when, in what shape, to which topic, and through which destination.
        </Empty>
      </>
    )
  return (
    <Sentence
      key={chosen?.id ?? 'new'}
      publication={chosen as Publication | null}
      condition={chosen?.state === 'live' ? (conditions?.[chosen.id] ?? null) : null}
      destinations={destinations.data ?? []}
      left={left}
      add={add}
      onSaved={setChosen}
    />
  )
}

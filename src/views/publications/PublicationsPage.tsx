import { CornerDownRight, Plus } from 'lucide-react'
import { useMemo, useState } from 'react'
import type { Publication } from '~/contract/publication'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Loading } from '~/ui/Notes'
import { Middle } from '~/ui/Parts'
import { PickFigure, PickRow } from '~/ui/PickRow'
import { rateText } from '~/ui/time'
import { setParams, useAdding, useParam, useTextInAddress } from '../app/address'
import { useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { useFrame, useWatch } from '../app/live/live'
import { glyphOf } from '../shared/condition'
import { Failed } from '../shared/Failed'
import { EmptyStation } from '../shared/Onward'
import { clauseByClause, nameUnder } from './also/words'
import { SeveralDialog } from './preflight/SeveralDialog'
import { Sentence } from './Sentence'

export function PublicationsPage() {
  const publications = useCall('listPublications')
  const destinations = useCall('listDestinations')
  const conditions = useFrame('publications')
  const mayEdit = useMay('engineer')
  const [id, setId] = useTextInAddress('id', 'push')
  const [adding, setAdding] = useAdding()
  const [, setTo] = useParam('to')
  const [also, setAlso] = useParam('also')
  const [several, setSeveral] = useState(false)
  const chosenId = adding ? 'new' : id
  const setChosen = (next: string) => {
    setAdding(next === 'new')
    setTo(null)
    setAlso(null)
    if (next !== 'new') setId(next)
  }
  useWatch({ parts: ['publications', 'ledger'] })
  const list = useMemo(() => clauseByClause(publications.data ?? []), [publications.data])
  const chosen = chosenId === 'new' ? null : (list.find((p) => p.id === chosenId) ?? list[0] ?? null)
  const root = list.find((p) => p.id === (chosen ? chosen.alsoOf : also)) ?? null
  const addClause = (id: string) => setParams({ add: '1', also: id }, 'push')
  const add = (
    <Button
      kind={list.length === 0 ? 'main' : 'plain'}
      disabled={!mayEdit}
      title={mayEdit ? '' : 'Needs the role engineer'}
      onClick={() => setChosen('new')}
    >
      <Plus size={14} /> New publication
    </Button>
  )
  const left = (
    <>
      {several && <SeveralDialog publications={list.filter((p) => p.alsoOf === undefined)} onClose={() => setSeveral(false)} />}
      <ul aria-label="Publications">
        {list.map((p) => {
          const c = p.state === 'live' ? conditions?.[p.id] : undefined
          return (
            <PickRow key={p.id} picked={p.id === chosen?.id} onPick={() => setChosen(p.id)}>
              {p.alsoOf !== undefined && <CornerDownRight size={12} className="ml-1 shrink-0 text-muted" aria-label="and also" />}
              <Glyph state={glyphOf(c)} title={c ? c.state : p.state} />
              <span className="truncate" title={p.name}>
                {nameUnder(p.name, list.find((r) => r.id === p.alsoOf)?.name)}
              </span>
              <PickFigure>{c ? rateText(c.rate) : p.off ? 'off' : p.state}</PickFigure>
            </PickRow>
          )
        })}
      </ul>
      {list.length > 1 && mayEdit && (
        <div className="px-2 py-1.5">
          <Button small kind="quiet" onClick={() => setSeveral(true)}>
            Several at once
          </Button>
        </div>
      )}
    </>
  )
  const unanswered = !publications.data || !destinations.data
  if (unanswered || (list.length === 0 && chosenId !== 'new'))
    return (
      <>
        <Row station="publications" page="List">
          {!unanswered && add}
        </Row>
        <Middle>
          {publications.error || destinations.error ? (
            <Failed of={[publications, destinations]} />
          ) : unanswered ? (
            <Loading />
          ) : (
            <EmptyStation needs="engineer" title="Nothing is published yet" action={add}>
              A publication says which equipment goes out, when, in what shape, to which topic, and through which destination.
            </EmptyStation>
          )}
        </Middle>
      </>
    )
  return (
    <Sentence
      key={chosen?.id ?? `new ${root?.id ?? ''}`}
      publication={chosen as Publication | null}
      condition={chosen?.state === 'live' ? (conditions?.[chosen.id] ?? null) : null}
      destinations={destinations.data}
      root={root}
      others={list}
      onAddClause={addClause}
      left={left}
      add={add}
      onSaved={setChosen}
    />
  )
}

import { Play, RotateCw, Square } from 'lucide-react'
import { useState } from 'react'
import { toast } from 'sonner'
import type { Source } from '~/contract/source'
import { Button } from '~/ui/Button'
import { Fact, Heading, WarnNote } from '~/ui/Notes'
import { ageText, durationText, rateText, Time, useNow } from '~/ui/time'
import { call, refresh } from '../app/api'
import { useMay } from '../app/caller'
import { useFrame } from '../app/live/live'
import { ConditionText } from '../shared/condition'
import { told } from '../shared/problems'
import { useWork } from '../shared/useWork'
import { kindView, placeOf } from './kinds'
import { RemoveSource, sentenceOf, useSourceUse } from './SourceUse'

const link = 'inline-flex h-[27px] items-center rounded-sm border border-line bg-sheet px-3 hover:border-muted'

/** One source: how it does, how it is connected, what uses it, and what can be done with it. */
export function SourcePeek({ source, onEdit }: { source: Source; onEdit(): void }) {
  const condition = useFrame('sources')?.[source.id]
  const mayEdit = useMay('engineer')
  const mayRun = useMay('operator')
  const now = useNow()
  const use = useSourceUse(source.id)
  const { busy, run: work } = useWork(told)
  const [removing, setRemoving] = useState(false)
  const view = kindView(source.kind)
  const warning = view.warning(source.settings)
  const run = (act: () => Promise<unknown>, done: string) =>
    work(async () => {
      await act()
      await refresh('listSources')
      toast(done)
    })
  const turn = (enabled: boolean) =>
    run(() => call('switchSource', { params: { id: source.id }, body: { enabled } }), `${source.name} is ${enabled ? 'started' : 'stopped'}`)
  return (
    <>
      <div className="flex items-start justify-between gap-2">
        <h2 className="text-[15px] font-semibold">{source.name}</h2>
        <Button small onClick={onEdit} disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'}>
          Edit
        </Button>
      </div>
      <div className="mt-1 mb-2">
        <ConditionText condition={condition} />
        {condition?.state === 'trouble' && condition.hint && <div className="mt-1">{condition.hint}</div>}
      </div>
      <div className="mb-2 flex gap-1.5">
        {source.enabled ? (
          <Button small disabled={!mayRun || busy} onClick={() => void turn(false)}>
            <Square size={11} /> Stop
          </Button>
        ) : (
          <Button small disabled={!mayRun || busy} onClick={() => void turn(true)}>
            <Play size={11} /> Start
          </Button>
        )}
        <Button
          small
          disabled={!mayRun || busy || !source.enabled}
          onClick={() => void run(() => call('restartSource', { params: { id: source.id } }), `${source.name} connects anew`)}
        >
          <RotateCw size={11} /> Connect anew
        </Button>
      </div>
      {warning && <WarnNote>{warning}</WarnNote>}
      <Heading>Connection</Heading>
      <Fact name="Protocol">{view.label}</Fact>
      <Fact name="Place">{placeOf(source)}</Fact>
      <view.Facts settings={source.settings} />
      <Heading>Now</Heading>
      <Fact name="Values">{condition ? rateText(condition.rate) : '-'}</Fact>
      <Fact name="Answer after">{typeof condition?.roundTripMs === 'number' ? durationText(condition.roundTripMs) : '-'}</Fact>
      <Fact name="Since">{condition ? <Time at={condition.since} date /> : '-'}</Fact>
      {condition?.lastError && (
        <Fact name="Last trouble">
          {condition.lastError.message}, {ageText(now - condition.lastError.at)} ago
        </Fact>
      )}
      <Heading>Where it is used</Heading>
      <p className="text-muted">{use ? sentenceOf(use) : '...'}</p>
      <div className="mt-4 flex flex-wrap gap-2">
        <a className={link} href={`${view.tags.page}?source=${source.id}`}>
          {view.tags.label}
        </a>
        <a className={link} href={`/tags?source=${source.id}`}>
          Its tags
        </a>
        <Button kind="danger" disabled={!mayEdit} onClick={() => setRemoving(true)}>
          Remove
        </Button>
      </div>
      {removing && <RemoveSource source={source} onClose={() => setRemoving(false)} />}
    </>
  )
}

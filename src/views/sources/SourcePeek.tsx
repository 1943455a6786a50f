import { Play, RotateCw, Square } from 'lucide-react'
import { useState } from 'react'
import { toast } from 'sonner'
import type { Source } from '~/contract/source'
import { filtersOf } from '~/contract/sources/mqtt'
import { Button } from '~/ui/Button'
import { Fact, Heading, WarnNote } from '~/ui/Notes'
import { Pre } from '~/ui/Pre'
import { ageText, durationText, rateText, Time, useNow } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { useFrame } from '../app/live/live'
import { ConditionText } from '../shared/condition'
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
  const [busy, setBusy] = useState(false)
  const [removing, setRemoving] = useState(false)
  const warning = kindView(source.kind).warning(source.settings)
  const run = async (work: () => Promise<unknown>, done: string) => {
    setBusy(true)
    try {
      await work()
      await refresh('listSources')
      toast(done)
    } catch (e) {
      toast.error(failureIn(e).message, { description: failureIn(e).hint })
    } finally {
      setBusy(false)
    }
  }
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
      <Fact name="Protocol">{kindView(source.kind).label}</Fact>
      <Fact name="Place">{placeOf(source)}</Fact>
      <Settings source={source} />
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
        {source.kind === 'modbus' ? (
          <a className={link} href={`/sources/registers?source=${source.id}`}>
            Register bench
          </a>
        ) : source.kind === 'mqtt' ? (
          <a className={link} href={`/sources/topics?source=${source.id}`}>
            Listen and add tags
          </a>
        ) : (
          <a className={link} href={`/sources/browse?source=${source.id}`}>
            Browse and add tags
          </a>
        )}
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

function Settings({ source }: { source: Source }) {
  switch (source.kind) {
    case 'opcua': {
      const { settings: s } = source
      return (
        <>
          <Fact name="Security">{s.mode === 'None' ? 'none' : `${s.mode}, ${s.policy}`}</Fact>
          <Fact name="Log-in">{s.login === 'user' ? s.user : s.login === 'certificate' ? 'by certificate' : 'anonymous'}</Fact>
          <Fact name="Update rate">{s.rateMs} ms</Fact>
          <Fact name="Its certificate">
            {s.serverThumbprint ? short(s.serverThumbprint) : s.mode === 'None' ? 'not asked for' : 'not trusted yet'}
          </Fact>
          <OwnThumbprint />
        </>
      )
    }
    case 'modbus': {
      const { settings: s } = source
      return (
        <>
          <Fact name="Requests">
            up to {s.maxRegisters} registers, gaps of {s.gap} read along
          </Fact>
          <Fact name="Update rate">{s.rateMs} ms</Fact>
          <Fact name="Silent after">{s.timeoutMs} ms</Fact>
        </>
      )
    }
    case 'mqtt': {
      const { settings: s } = source
      return (
        <>
          <Fact name="Listens on">{filtersOf(s.filters).join(', ')}</Fact>
          <Fact name="Client id">{s.clientId}</Fact>
          <Fact name="Stale after">{s.staleS === 0 ? 'never' : `${s.staleS} s without a message`}</Fact>
        </>
      )
    }
    case 'sql': {
      const { settings: s } = source
      return (
        <>
          <Fact name="Log-in">{s.user}</Fact>
          <Fact name="Rows by">{s.keyColumn || 'the one row'}</Fact>
          <Fact name="Asked every">{durationText(s.rateMs)}</Fact>
          <Pre label="What is asked" className="mt-1 max-h-32 bg-paper px-2 py-1 text-xs whitespace-pre-wrap">
            {s.query}
          </Pre>
        </>
      )
    }
    case 'http': {
      const { settings: s } = source
      return (
        <>
          <Fact name="Log-in">{s.login === 'none' ? 'none' : s.login === 'basic' ? s.user : 'by token'}</Fact>
          <Fact name="Asked every">{durationText(s.rateMs)}</Fact>
        </>
      )
    }
    case 'simulated':
      return <Fact name="Update rate">{source.settings.rateMs} ms</Fact>
  }
}

function OwnThumbprint() {
  const application = useCall('application')
  return <Fact name="Ours">{application.data ? <span title={application.data.thumbprint}>{short(application.data.thumbprint)}</span> : '...'}</Fact>
}

/** A thumbprint in groups of eight, so that two can be compared by eye. */
function short(thumbprint: string): string {
  return thumbprint.match(/.{1,8}/g)?.join(' ') ?? thumbprint
}

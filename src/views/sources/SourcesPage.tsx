import { Plus } from 'lucide-react'
import { useState } from 'react'
import { toast } from 'sonner'
import type { Caller } from '~/contract/person'
import type { Source } from '~/contract/source'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Empty, Fact, Heading, Loading, ProblemNote, WarnNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { ageText, countText, rateText, Time, useNow } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Frame, Row } from '../app/Frame'
import { useFrame, useWatch } from '../app/live'
import { ConditionText, conditionGlyph } from '../shared/condition'
import { SourceForm } from './SourceForm'

export function SourcesPage({ caller }: { caller: Caller }) {
  return (
    <Frame caller={caller} station="sources" page="List">
      <Sources />
    </Frame>
  )
}

function Sources() {
  const sources = useCall('listSources')
  const conditions = useFrame('sources')
  const mayEdit = useMay('engineer')
  const [chosen, setChosen] = useState<string | null>(null)
  const [form, setForm] = useState<'closed' | 'new' | Source>(() => (location.search.includes('add') ? 'new' : 'closed'))
  useWatch({ parts: ['sources'] })
  const now = useNow()
  const list = sources.data ?? []
  const one = list.find((s) => s.id === chosen) ?? list[0]
  const add = (
    <Button kind="main" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'} onClick={() => setForm('new')}>
      <Plus size={14} /> Add source
    </Button>
  )
  return (
    <>
      <Row station="sources" page="List">
        {add}
      </Row>
      <ThreeParts id="sources" peekWidth={340} peek={one && <SourcePeek source={one} onEdit={() => setForm(one)} mayEdit={mayEdit} />}>
        {sources.isPending && <Loading />}
        {sources.error && (
          <div className="p-4">
            <ProblemNote problem={failureIn(sources.error)} action={<Button onClick={() => void sources.refetch()}>Try again</Button>} />
          </div>
        )}
        {sources.data && list.length === 0 && (
          <Empty title="No source yet" action={add}>
            A source is what tags are read from. Begin with the controller that holds the values: you need its endpoint and a log-in.
          </Empty>
        )}
        {list.length > 0 && (
          <table className="w-full" aria-label="Sources">
            <thead>
              <tr className="border-b border-line text-left text-xs text-muted">
                <th className="w-8" />
                <th className="px-2 py-1.5 font-semibold">Name</th>
                <th className="px-2 font-semibold">Endpoint</th>
                <th className="px-2 font-semibold">State</th>
                <th className="px-2 text-right font-semibold">Tags</th>
                <th className="px-2 text-right font-semibold">Values</th>
                <th className="px-3 text-right font-semibold">Last</th>
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
                    onDoubleClick={() => mayEdit && setForm(s)}
                    className={`h-[34px] cursor-default border-b border-line/70 ${s.id === one?.id ? 'bg-wash' : 'hover:bg-well/50'}`}
                  >
                    <td className="pl-3">
                      <Glyph state={c ? conditionGlyph[c.state] : 'idle'} />
                    </td>
                    <td className="px-2 font-semibold whitespace-nowrap">{s.name}</td>
                    <td className="max-w-64 truncate px-2 font-mono text-[12.5px]">{s.settings.endpoint}</td>
                    <td className={`max-w-64 truncate px-2 ${c?.state === 'trouble' ? 'text-bad' : ''}`} title={c?.reason}>
                      {c ? (c.state === 'running' ? 'running' : c.reason) : '...'}
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
      {form !== 'closed' && (
        <SourceForm
          source={form === 'new' ? null : form}
          onClose={() => setForm('closed')}
          onSaved={(s) => {
            setChosen(s.id)
            setForm('closed')
            toast.success(`${s.name} is saved`)
          }}
        />
      )}
    </>
  )
}

function SourcePeek({ source, onEdit, mayEdit }: { source: Source; onEdit(): void; mayEdit: boolean }) {
  const condition = useFrame('sources')?.[source.id]
  const application = useCall('application')
  const { settings } = source
  const remove = async () => {
    if (!window.confirm(`Remove the source ${source.name}? It has no tags.`)) return
    try {
      await call('removeSource', { params: { id: source.id } })
      await refresh('listSources')
    } catch (e) {
      toast.error(failureIn(e).message, { description: failureIn(e).hint })
    }
  }
  return (
    <>
      <div className="flex items-start justify-between gap-2">
        <h2 className="text-[15px] font-semibold">{source.name}</h2>
        <Button small onClick={onEdit} disabled={!mayEdit}>
          Edit
        </Button>
      </div>
      <div className="mt-1 mb-2">
        <ConditionText condition={condition} />
        {condition?.state === 'trouble' && condition.hint && <div className="mt-1">{condition.hint}</div>}
      </div>
      {settings.mode === 'None' && <WarnNote>Without security: anybody in between can read and change values.</WarnNote>}
      <Heading>Connection</Heading>
      <Fact name="Endpoint">{settings.endpoint}</Fact>
      <Fact name="Security">{settings.mode === 'None' ? 'none' : `${settings.mode}, ${settings.policy}`}</Fact>
      <Fact name="Log-in">{settings.login === 'user' ? settings.user : 'anonymous'}</Fact>
      <Fact name="Update rate">{settings.rateMs} ms</Fact>
      <Fact name="Values">{condition ? rateText(condition.rate) : '-'}</Fact>
      <Fact name="Since">{condition ? <Time at={condition.since} date /> : '-'}</Fact>
      <Heading>Certificates</Heading>
      <Fact name="Server">{settings.serverThumbprint ? short(settings.serverThumbprint) : 'not kept: check to take it over'}</Fact>
      <Fact name="Embrik">{application.data ? <span title={application.data.thumbprint}>{short(application.data.thumbprint)}</span> : '...'}</Fact>
      <div className="mt-4 flex gap-2">
        <a
          className="inline-flex h-[27px] items-center rounded-sm border border-line bg-sheet px-3 hover:border-muted"
          href={`/tags?add=${source.id}`}
        >
          Browse and add tags
        </a>
        {source.tagCount === 0 && (
          <Button kind="danger" disabled={!mayEdit} onClick={() => void remove()}>
            Remove
          </Button>
        )}
      </div>
    </>
  )
}

/** A thumbprint in groups of eight, so that two can be compared by eye. */
function short(thumbprint: string): string {
  return thumbprint.match(/.{1,8}/g)?.join(' ') ?? thumbprint
}

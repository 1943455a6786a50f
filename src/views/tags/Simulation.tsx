import { useState } from 'react'
import { toast } from 'sonner'
import type { Tag } from '~/contract/tag'
import { parseSignal, signalExamples, signalKinds } from '~/core/source/signal'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Heading } from '~/ui/Notes'
import { call, refresh, useCall } from '../app/api'
import { told } from '../shared/problems'
import { useWork } from '../shared/useWork'
import { kindView } from '../sources/kinds'

/** Says loudly that a tag's values are made up; nothing for one that is read from a device. */
export function MadeUp({ tag }: { tag: Tag }) {
  const sources = useCall('listSources')
  const source = sources.data?.find((s) => s.id === tag.sourceId)
  const computed = source !== undefined && !kindView(source.kind).measured
  return tag.simulated || computed ? <MadeUpMark tag={tag} /> : null
}

export function MadeUpMark({ tag }: { tag: Tag }) {
  return (
    <span
      className="inline-block shrink-0 rounded-sm bg-uncertain px-1 text-[11px] leading-4 font-semibold text-paper"
      title={tag.simulated ? `On simulation instead of the device: ${tag.signal}` : 'Its source is a simulated one'}
      data-made-up
    >
      simulated
    </span>
  )
}

function proposal(tag: Tag): string {
  if (tag.signal) return tag.signal
  if (tag.dataType === 'boolean') return 'cycle values=true|false period=10'
  if (tag.dataType === 'text' || tag.dataType === 'time') return 'cycle values=one|two period=10'
  return `sine low=${tag.range?.low ?? 0} high=${tag.range?.high ?? 100} period=60`
}

/** Puts a tag on simulation and back. */
export function Simulation({ tag, mayEdit }: { tag: Tag; mayEdit: boolean }) {
  const sources = useCall('listSources')
  const source = sources.data?.find((s) => s.id === tag.sourceId)
  const [signal, setSignal] = useState<string | null>(null)
  const { busy, run } = useWork(told)
  if (!source || !kindView(source.kind).measured) return null
  const parsed = signal === null ? null : parseSignal(signal)
  const turn = (simulated: boolean) =>
    run(async () => {
      await call('changeTag', { params: { id: tag.id }, body: { simulated, ...(simulated && signal !== null && { signal }) } })
      await refresh('listTags')
      setSignal(null)
      toast(simulated ? `${tag.name} is on simulation` : `${tag.name} is read from ${source.name} again`)
    })
  if (tag.simulated)
    return (
      <div className="my-2 rounded-sm border border-uncertain bg-sheet px-3 py-2" role="status">
        <div className="font-semibold text-uncertain">These values are made up</div>
        <div className="mt-0.5">
          <span className="font-mono text-xs">{tag.signal}</span> stands in for {source.name}. Receivers get the quality uncertain.
        </div>
        <div className="mt-2">
          <Button small disabled={!mayEdit} busy={busy} onClick={() => void turn(false)}>
            Back to the device
          </Button>
        </div>
      </div>
    )
  return (
    <>
      <Heading>Simulation</Heading>
      {signal === null ? (
        <Button small disabled={!mayEdit} onClick={() => setSignal(proposal(tag))}>
          Put on simulation
        </Button>
      ) : (
        <Form className="[&_.grid]:grid-cols-1" onSubmit={() => parsed && !('problem' in parsed) && turn(true)}>
          <TextField
            label="Signal"
            mono
            autoFocus
            list="signals"
            value={signal}
            onChange={(e) => setSignal(e.target.value)}
            error={parsed && 'problem' in parsed ? parsed.problem : undefined}
            help={parsed && !('problem' in parsed) ? signalKinds[parsed.kind] : undefined}
          />
          <datalist id="signals">
            {signalExamples
              .filter((e) => !e.startsWith('replay'))
              .map((e) => (
                <option key={e} value={e} />
              ))}
          </datalist>
          <div className="flex justify-end gap-2 py-1">
            <Button small onClick={() => setSignal(null)}>
              Cancel
            </Button>
            <Button small kind="main" type="submit" busy={busy} disabled={!parsed || 'problem' in parsed}>
              Simulate it
            </Button>
          </div>
        </Form>
      )}
    </>
  )
}

import { type ReactNode, useMemo } from 'react'
import type { Destination } from '~/contract/destination'
import type { Condition } from '~/contract/live'
import type { Finding, Publication } from '~/contract/publication'
import { asPrescribed, shapeOf } from '~/core/shape/registry'
import { typedNumber } from '~/core/value/typed-number'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Choice, SelectField } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { NumberInput } from '~/ui/NumberInput'
import { ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { glyphOf } from '../shared/condition'
import { ConflictNote, KeptNote } from '../shared/DraftNotes'
import { AddressForm } from './AddressForm'
import { ContractLinks } from './ContractLinks'
import { MessagePeek } from './MessagePeek'
import { Section } from './Section'
import { ShapeForm } from './ShapeForm'
import { useAsSent } from './useAsSent'
import { usePublicationDraft } from './usePublicationDraft'
import { WhatPicker, whatWords } from './WhatPicker'

interface Props {
  publication: Publication | null
  condition: Condition | null
  destinations: readonly Destination[]
  left: ReactNode
  add: ReactNode
  onSaved(id: string | null): void
}

/** What the parts of a publication are called where two versions are compared. */
const fieldWords = {
  name: 'Name',
  equipmentIds: 'What: equipment',
  trigger: 'When',
  shape: 'Shape',
  topic: 'Topic',
  key: 'Key',
  headers: 'Headers',
  qos: 'QoS',
  retain: 'Retained',
  contentType: 'Content type',
  responseTopic: 'Response topic',
  expiryS: 'Expires after, s',
  destinationId: 'Destination',
}

/** A publication as a sentence: what, when, in what shape, to which topic, through which destination, how safely. */
export function Sentence({ publication, condition, destinations, left, add, onSaved }: Props) {
  const equipment = useCall('outlineEquipment')
  const classes = useCall('listClasses')
  const ask = useAsk()
  const mayEdit = useMay('engineer')
  const mayRun = useMay('operator')
  const edit = usePublicationDraft({ publication, destinations, onSaved })
  const { own, draft, set, preview, trouble, waiting, fields, open, setOpen, busy, dirty, unfit, clear, setClear, saveOnly, goLive, run, remove } =
    edit
  const destination = destinations.find((d) => d.id === draft.destinationId)
  const asSent = useAsSent(draft.equipmentIds, open === 'shape' || open === 'address')

  const findings = preview?.findings ?? []
  const stops = findings.filter((f) => f.severity === 'stops').length
  const of = (s: Finding['section']) => findings.filter((f) => f.section === s)
  const byId = useMemo(() => new Map((equipment.data ?? []).map((e) => [e.id, e])), [equipment.data])
  const section = (id: string) => ({ open: open === id, onToggle: () => setOpen(open === id ? null : id) })
  const live = publication?.state === 'live'

  return (
    <>
      <Row station="publications" page="List">
        {publication && (
          <span className="flex items-center gap-2 rounded-sm border border-line bg-sheet px-2 py-[3px] text-xs" data-state={publication.state}>
            <Glyph state={live ? (condition ? glyphOf(condition) : 'uncertain') : 'idle'} />
            {live && condition && condition.state !== 'running' ? `${condition.state} · ` : ''}
            {publication.state}
            {publication.liveVersion !== null && ` · version ${publication.liveVersion}`}
          </span>
        )}
        {publication && (publication.editedSinceLive || (dirty && publication.liveVersion !== null)) && (
          <span className="text-xs text-muted">edits not live</span>
        )}
        {findings.length > 0 && (
          <span className={`text-xs ${stops > 0 ? 'text-bad' : 'text-uncertain'}`}>
            {stops > 0 ? `${stops} ${stops === 1 ? 'error' : 'errors'}` : `${findings.length} ${findings.length === 1 ? 'warning' : 'warnings'}`}
          </span>
        )}
        {add}
        {publication && !live && (
          <Button
            kind="danger"
            disabled={!mayEdit}
            onClick={async () => {
              const text = 'Its frozen versions and its account in the ledger go too. This cannot be undone.'
              if (await ask({ title: `Remove ${publication.name}`, text, act: 'Remove publication' })) void remove()
            }}
          >
            Remove
          </Button>
        )}
        {live && (
          <Button busy={busy === 'pause'} disabled={!mayRun} onClick={() => void run('pausePublication')}>
            Pause
          </Button>
        )}
        {publication?.state === 'paused' && (
          <Button busy={busy === 'pause'} disabled={!mayRun} onClick={() => void run('resumePublication')}>
            Resume
          </Button>
        )}
        <Button disabled={!mayEdit || !dirty} busy={busy === 'save'} onClick={() => void saveOnly()}>
          Save
        </Button>
        <Button
          kind="main"
          disabled={!mayEdit || stops > 0 || unfit}
          busy={busy === 'live'}
          title={stops > 0 ? 'Mend what stops it first' : 'Freezes a version and sends it'}
          onClick={() => void goLive()}
        >
          Go live
        </Button>
      </Row>
      <ThreeParts
        id="publication"
        leftWidth={226}
        peekWidth={324}
        left={left}
        peek={<MessagePeek publication={publication} preview={preview} trouble={trouble} waiting={waiting} dirty={dirty} />}
      >
        <form className="flex flex-col gap-2 p-3.5" onSubmit={(e) => e.preventDefault()} aria-label="Publication">
          {own.keptAt !== null && <KeptNote at={own.keptAt} onForget={own.forget} />}
          {own.conflict && <ConflictNote differ={own.conflict} labels={fieldWords} onTheirs={own.takeTheirs} onMine={own.takeMine} />}
          <input
            aria-label="Name"
            value={draft.name}
            onChange={(e) => set({ name: e.target.value })}
            placeholder="Name of the publication"
            className="mb-1 rounded-sm border border-transparent bg-transparent px-1 text-[17px] font-semibold hover:border-line focus:border-line"
          />
          {fields.name && <div className="px-1 text-xs text-bad">{fields.name}</div>}
          {condition && condition.state !== 'running' && (
            <div className={`px-1 ${condition.state === 'trouble' ? 'text-bad' : 'text-uncertain'}`}>
              {condition.state}: {condition.reason}. <span className="text-ink">{condition.hint}</span>
            </div>
          )}
          <Section
            title="What"
            summary={whatWords(draft.equipmentIds, byId, classes.data ?? [])}
            findings={of('what')}
            error={fields.equipmentIds}
            {...section('what')}
          >
            <WhatPicker
              equipment={equipment.data ?? []}
              classes={classes.data ?? []}
              chosen={draft.equipmentIds}
              onChange={(equipmentIds) => set({ equipmentIds })}
            />
          </Section>
          <Section
            title="When"
            summary={
              draft.trigger.kind === 'change' ? (
                <>on change beyond each tag's deadband</>
              ) : (
                <>
                  every <b>{draft.trigger.seconds} s</b>
                </>
              )
            }
            findings={of('when')}
            error={fields['trigger.seconds']}
            {...section('when')}
          >
            <div className="flex items-center gap-3">
              <Choice
                label="Trigger"
                value={draft.trigger.kind}
                options={[
                  { value: 'change', label: 'On change' },
                  { value: 'every', label: 'Every' },
                ]}
                onChange={(kind) => set({ trigger: kind === 'change' ? { kind } : { kind, seconds: 10 } })}
              />
              {draft.trigger.kind === 'every' && (
                <span className="flex items-center gap-2">
                  <NumberInput
                    aria-label="Seconds"
                    className="field w-20 font-mono"
                    value={draft.trigger.seconds}
                    read={typedNumber}
                    onNumber={(seconds) => set({ trigger: { kind: 'every', seconds } })}
                  />
                  s
                </span>
              )}
              <span className="text-muted">A change of quality, good to bad or back, always counts.</span>
            </div>
          </Section>
          <Section
            title="Shape"
            summary={shapeOf(draft.shape).summary(draft.shape as never)}
            findings={of('shape')}
            error={Object.entries(fields).find(([k]) => k.startsWith('shape'))?.[1]}
            {...section('shape')}
          >
            <ShapeForm
              value={draft.shape}
              onChange={(shape) => set({ shape })}
              errors={fields}
              asSent={asSent}
              after={publication && !dirty && <ContractLinks id={publication.id} />}
            />
          </Section>
          <Section
            title="Address"
            summary={
              <>
                topic{' '}
                <code className="rounded-sm bg-well px-1 font-mono text-[12.5px]">
                  {draft.shape.kind === 'sparkplug-b' ? 'as Sparkplug has it' : draft.topic}
                </code>
                , QoS {asPrescribed(draft).qos}
                {asPrescribed(draft).retain ? ', retained' : ''}
                {draft.headers.length > 0 ? `, ${draft.headers.length} ${draft.headers.length === 1 ? 'header' : 'headers'}` : ''}
              </>
            }
            findings={of('address')}
            error={fields.topic}
            {...section('address')}
          >
            <AddressForm draft={draft} set={set} fields={fields} preview={preview} example={asSent.example} />
          </Section>
          <Section
            title="Through"
            summary={destination ? <b>{destination.name}</b> : 'no destination yet'}
            findings={of('through')}
            error={fields.destinationId}
            {...section('through')}
          >
            {destinations.length === 0 ? (
              <a className="text-slate underline" href="/destinations?add">
                Add a destination first
              </a>
            ) : (
              <SelectField label="Destination" value={draft.destinationId} onChange={(e) => set({ destinationId: e.target.value })}>
                <option value="" disabled>
                  choose
                </option>
                {destinations.map((d) => (
                  <option key={d.id} value={d.id}>
                    {d.name}
                  </option>
                ))}
              </SelectField>
            )}
          </Section>
          <Section
            title="Safely"
            summary={
              destination ? (
                <>
                  outbox up to <b>{destination.settings.outboxMb} MB</b>, oldest dropped first;{' '}
                  {destination.settings.witness ? 'a witness reads it back' : 'no witness'}
                </>
              ) : (
                '-'
              )
            }
            findings={of('safely')}
            {...section('safely')}
          >
            {preview && preview.leftBehindCount > 0 && (
              <div className="mb-2 rounded-sm border border-uncertain/40 bg-sheet px-3 py-1.5">
                <div>
                  {countText(preview.leftBehindCount)} retained {preview.leftBehindCount === 1 ? 'message' : 'messages'} of the live version would
                  stay at the broker:
                </div>
                <div className="font-mono text-[12px] text-muted">{preview.leftBehind.slice(0, 4).join(', ')}</div>
                <label className="mt-1 flex items-center gap-2">
                  <input type="checkbox" className="accent-(--clay)" checked={clear} onChange={(e) => setClear(e.target.checked)} />
                  take them back at the go-live
                </label>
              </div>
            )}
            <p className="text-muted">
              Messages wait on disk until the destination has them, and are sent again in order after a lost link. Limit and witness are the
              destination's:{' '}
              <a className="text-slate underline" href="/destinations">
                change them there
              </a>
              .
            </p>
          </Section>
        </form>
      </ThreeParts>
    </>
  )
}

import { type ReactNode, useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Destination } from '~/contract/destination'
import type { Condition } from '~/contract/live'
import { type Finding, type Preview, type Publication, PublicationDraft } from '~/contract/publication'
import { placeholders } from '~/core/address/topic-template'
import { Button } from '~/ui/Button'
import { Choice, SelectField, TextField } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { ThreeParts } from '~/ui/Parts'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { conditionGlyph } from '../shared/condition'
import { tellFailure } from '../shared/problems'
import { MessagePeek } from './MessagePeek'
import { Section } from './Section'
import { WhatPicker, whatWords } from './WhatPicker'

interface Props {
  publication: Publication | null
  condition: Condition | null
  destinations: readonly Destination[]
  left: ReactNode
  add: ReactNode
  onSaved(id: string | null): void
}

const qosWords = ['at most once', 'at least once', 'exactly once on one connection']

/** A publication as a sentence: what, when, in what shape, to which topic, through which destination, how safely. */
export function Sentence({ publication, condition, destinations, left, add, onSaved }: Props) {
  const equipment = useCall('listEquipment')
  const classes = useCall('listClasses')
  const mayEdit = useMay('engineer')
  const mayRun = useMay('operator')
  const [draft, setDraft] = useState<PublicationDraft>(() =>
    publication
      ? pick(publication)
      : {
          name: '',
          equipmentIds: [],
          trigger: { kind: 'change' },
          shape: 'compact-json',
          topic: '{enterprise}/{site}/{area}/{centre}/{unit}/state',
          qos: 1,
          retain: false,
          destinationId: destinations[0]?.id ?? '',
        },
  )
  const [preview, setPreview] = useState<Preview | null>(null)
  const [fields, setFields] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState<'save' | 'live' | 'pause' | null>(null)
  const [open, setOpen] = useState<string | null>(publication ? null : 'what')
  const dirty = !publication || JSON.stringify(draft) !== JSON.stringify(pick(publication))
  const set = (change: Partial<PublicationDraft>) => setDraft({ ...draft, ...change })
  const destination = destinations.find((d) => d.id === draft.destinationId)
  const waiting = draft.equipmentIds.length === 0 || !draft.destinationId

  // The peek follows what is typed, after a breath.
  const text = JSON.stringify(draft)
  useEffect(() => {
    if (waiting) {
      setPreview(null)
      return
    }
    const abort = new AbortController()
    const look = () =>
      void call('previewPublication', { body: { draft: { ...(JSON.parse(text) as PublicationDraft), name: 'draft' } }, signal: abort.signal }).then(
        (p) => {
          setPreview(p)
        },
        () => undefined,
      )
    const timer = setTimeout(look, 250)
    const again = setInterval(look, 2000)
    return () => {
      clearTimeout(timer)
      clearInterval(again)
      abort.abort()
    }
  }, [text, waiting])

  const save = async (): Promise<Publication | null> => {
    const parsed = PublicationDraft.safeParse(draft)
    if (!parsed.success) {
      const wrong = Object.fromEntries(parsed.error.issues.map((i) => [i.path.join('.'), i.message]))
      setFields(wrong)
      setOpen(wrong.equipmentIds ? 'what' : wrong.topic ? 'address' : wrong.destinationId ? 'through' : open)
      return null
    }
    setFields({})
    setBusy('save')
    try {
      const saved = publication
        ? await call('changePublication', { params: { id: publication.id }, body: draft })
        : await call('addPublication', { body: draft })
      await refresh('listPublications', 'listDestinations')
      setDraft(pick(saved))
      return saved
    } catch (e) {
      const f = failureIn(e)
      if (f.fields) setFields(f.fields)
      else tellFailure(e)
      return null
    } finally {
      setBusy(null)
    }
  }
  const saveOnly = async () => {
    const saved = await save()
    if (!saved) return
    toast.success(`${saved.name} is saved`)
    onSaved(saved.id)
  }
  const goLive = async () => {
    const saved = dirty ? await save() : publication
    if (!saved) return
    setBusy('live')
    try {
      const now = await call('goLive', { params: { id: saved.id } })
      toast.success(`${now.name} is live, version ${now.liveVersion}`)
    } catch (e) {
      tellFailure(e)
    } finally {
      setBusy(null)
      await refresh('listPublications')
      onSaved(saved.id)
    }
  }
  const run = async (what: 'pausePublication' | 'resumePublication') => {
    setBusy('pause')
    try {
      await call(what, { params: { id: publication!.id } })
      await refresh('listPublications')
    } catch (e) {
      tellFailure(e)
    } finally {
      setBusy(null)
    }
  }
  const remove = async () => {
    const { id } = publication!
    try {
      await call('removePublication', { params: { id } })
      await refresh('listPublications', 'listDestinations')
      onSaved(null)
      toast(`${publication!.name} removed with its versions and its account`)
    } catch (e) {
      tellFailure(e)
    }
  }

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
            <Glyph state={live ? (condition ? conditionGlyph[condition.state] : 'uncertain') : 'idle'} />
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
            {stops > 0 ? `${stops} stop it` : `${findings.length} to know`}
          </span>
        )}
        {add}
        {publication && !live && (
          <Button
            kind="danger"
            disabled={!mayEdit}
            onClick={() => {
              if (window.confirm(`Remove ${publication.name}, its frozen versions and its account in the ledger? This cannot be undone.`))
                void remove()
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
          disabled={!mayEdit || stops > 0}
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
        peek={<MessagePeek publication={publication} preview={preview} dirty={dirty} />}
      >
        <form className="flex flex-col gap-2 p-3.5" onSubmit={(e) => e.preventDefault()} aria-label="Publication">
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
                <label className="flex items-center gap-2">
                  <input
                    type="number"
                    min={0.1}
                    step="any"
                    aria-label="Seconds"
                    className="h-[26px] w-20 rounded-sm border border-line bg-paper px-2 font-mono"
                    value={draft.trigger.seconds}
                    onChange={(e) => set({ trigger: { kind: 'every', seconds: Number(e.target.value) } })}
                  />
                  s
                </label>
              )}
              <span className="text-muted">A change of quality, good to bad or back, always counts.</span>
            </div>
          </Section>
          <Section
            title="Shape"
            summary="compact JSON: a key a member, bad quality as null with its reason"
            findings={of('shape')}
            {...section('shape')}
          >
            <p className="text-muted">
              One flat object an equipment: <code className="font-mono">at</code> is the newest device time in ISO 8601, then each member by its name;{' '}
              <code className="font-mono">quality</code> lists only what is not good.
            </p>
          </Section>
          <Section
            title="Address"
            summary={
              <>
                topic <code className="rounded-sm bg-well px-1 font-mono text-[12.5px]">{draft.topic}</code>, QoS {draft.qos}
                {draft.retain ? ', retained' : ''}
              </>
            }
            findings={of('address')}
            error={fields.topic}
            {...section('address')}
          >
            <TextField
              label="Topic"
              mono
              value={draft.topic}
              onChange={(e) => set({ topic: e.target.value })}
              error={fields.topic}
              help="Names become lower case, spaces and slashes in them dashes"
            />
            <div className="flex flex-wrap gap-1 pb-2 pl-[142px]">
              {Object.keys(placeholders).map((p) => (
                <Button
                  key={p}
                  small
                  onClick={() => set({ topic: `${draft.topic}${draft.topic.endsWith('/') || draft.topic === '' ? '' : '/'}{${p}}` })}
                >
                  <code className="font-mono">{`{${p}}`}</code>
                </Button>
              ))}
            </div>
            <SelectField label="Quality of service" value={draft.qos} onChange={(e) => set({ qos: Number(e.target.value) as 0 | 1 | 2 })}>
              {qosWords.map((w, q) => (
                <option key={w} value={q}>{`${q}, ${w}`}</option>
              ))}
            </SelectField>
            <label className="flex items-center gap-2 py-1 pl-[142px]">
              <input type="checkbox" className="accent-(--clay)" checked={draft.retain} onChange={(e) => set({ retain: e.target.checked })} />
              retain: a new subscriber gets the last value at once
            </label>
            {preview && preview.topics.length > 0 && (
              <ul className="mt-1 font-mono text-[12.5px] leading-5 text-muted" aria-label="Topics">
                {preview.topics.slice(0, 6).map((t) => (
                  <li key={t}>{t}</li>
                ))}
                {preview.topicCount > 6 && <li>and {preview.topicCount - 6} more</li>}
              </ul>
            )}
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

function pick(p: Publication): PublicationDraft {
  const { name, equipmentIds, trigger, shape, topic, qos, retain, destinationId } = p
  return { name, equipmentIds, trigger, shape, topic, qos, retain, destinationId }
}

import { Plus, X } from 'lucide-react'
import { useState } from 'react'
import type { PlanEquipment, Preview, PublicationDraft, TopicRule } from '~/contract/publication'
import { placeholders, templateProblems, textProblems, topicRules } from '~/core/address/topic-template'
import { shapes } from '~/core/shape/registry'
import { Button } from '~/ui/Button'
import { Field, SelectField, TextField } from '~/ui/Field'
import { Heading } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { type Offered, TemplateEditor } from './TemplateEditor'
import { TopicTree } from './TopicTree'

const qosWords = ['at most once', 'at least once', 'exactly once on one connection']

const help: Record<string, string> = {
  enterprise: 'name at that level',
  site: 'name at that level',
  area: 'name at that level',
  centre: 'name of the work centre',
  unit: 'name of the work unit',
  path: 'all names from the top, a level each',
  name: 'name of the equipment, or its alias',
  class: 'its class',
  member: 'of messages about one member',
  tag: 'name of the tag that fills the member, a level a folder',
}

/** What placeholders of an address may name, for the equipment at hand. */
function offered(example: PlanEquipment | null): Offered[] {
  return [
    ...Object.keys(placeholders).map((name) => ({ name, help: help[name] ?? '' })),
    ...Object.entries(example?.facts ?? {}).map(([f, v]) => ({ name: `fact.${f}`, help: String(v) })),
    ...(example?.members ?? []).map((m) => ({ name: `value.${m.key}`, help: `value of ${m.label || m.key}, at the moment` })),
    ...['year', 'month', 'day', 'hour', 'minute'].map((t) => ({ name: `time.${t}`, help: 'of the message, UTC' })),
  ]
}

/** Topic, key, headers and the rest of an address; with all topics that come of it as a tree. */
export function AddressForm({
  draft,
  set,
  fields,
  preview,
  example,
}: {
  draft: PublicationDraft
  set(change: Partial<PublicationDraft>): void
  fields: Record<string, string>
  preview: Preview | null
  example: PlanEquipment | null
}) {
  const beside =
    draft.key !== '' ||
    draft.headers.length > 0 ||
    draft.contentType !== '' ||
    draft.responseTopic !== '' ||
    draft.expiryS !== null ||
    draft.steersOnly
  const [more, setMore] = useState(beside)
  const offer = offered(example)
  const fixed = shapes[draft.shape.kind].fixed !== undefined
  const steered = [draft.topic, draft.key, ...draft.headers.map((h) => h.value)].some((t) => t.includes('{value.'))
  const editor = (label: string, value: string, onChange: (text: string) => void, topic = false) => (
    <TemplateEditor
      oneLine
      label={label}
      opening="{"
      value={value}
      onChange={onChange}
      offer={offer}
      check={topic ? templateProblems : (t) => textProblems(t)}
    />
  )
  return (
    <>
      {fixed ? (
        <p className="py-1 text-muted">
          The standard fixes the topics (group, kind of message, edge node, device), QoS 0, and that nothing is retained.
        </p>
      ) : (
        <>
          <Field label="Topic" error={fields.topic} help="Type { to see what can be filled in, and | after a name for filters: {name|lower}">
            {() => editor('Topic', draft.topic, (topic) => set({ topic }), true)}
          </Field>
          <div className="flex flex-wrap gap-1 pb-2 pl-[142px]">
            {Object.keys(placeholders).map((p) => (
              <Button
                key={p}
                small
                title={help[p]}
                onClick={() => set({ topic: `${draft.topic}${draft.topic.endsWith('/') || draft.topic === '' ? '' : '/'}{${p}}` })}
              >
                <code className="font-mono">{`{${p}}`}</code>
              </Button>
            ))}
          </div>
          <SelectField label="Names in it" value={draft.topicRule} onChange={(e) => set({ topicRule: e.target.value as TopicRule })}>
            {Object.entries(topicRules).map(([rule, words]) => (
              <option key={rule} value={rule}>
                {words}
              </option>
            ))}
          </SelectField>
          <SelectField label="Quality of service" value={draft.qos} onChange={(e) => set({ qos: Number(e.target.value) as 0 | 1 | 2 })}>
            {qosWords.map((w, q) => (
              <option key={w} value={q}>{`${q}, ${w}`}</option>
            ))}
          </SelectField>
          <label className="flex items-center gap-2 py-1 pl-[142px]">
            <input type="checkbox" className="accent-(--clay)" checked={draft.retain} onChange={(e) => set({ retain: e.target.checked })} />
            retain: a new subscriber gets the last value at once
          </label>
        </>
      )}
      {steered && (
        <label className="flex items-center gap-2 py-1 pl-[142px]">
          <input type="checkbox" className="accent-(--clay)" checked={draft.steersOnly} onChange={(e) => set({ steersOnly: e.target.checked })} />
          leave members that steer topic, key or headers out of the payload
        </label>
      )}
      {more ? (
        <>
          <Heading>Beside the payload</Heading>
          <Field label="Key" help="By which streams part messages; brokers have none" error={fields.key}>
            {() => editor('Key', draft.key, (key) => set({ key }))}
          </Field>
          <TextField
            label="Content type"
            mono
            value={draft.contentType}
            onChange={(e) => set({ contentType: e.target.value })}
            placeholder={preview?.message?.contentType ?? shapes[draft.shape.kind].contentType(draft.shape as never)}
            error={fields.contentType}
          />
          <Field label="Response topic" help="Where an answer is expected" error={fields.responseTopic}>
            {() => editor('Response topic', draft.responseTopic, (responseTopic) => set({ responseTopic }))}
          </Field>
          <TextField
            label="Expires after"
            unit="s"
            mono
            inputMode="numeric"
            value={draft.expiryS ?? ''}
            help="Receivers need not get it later; empty: never"
            onChange={(e) => set({ expiryS: e.target.value.trim() === '' ? null : Number(e.target.value) })}
            error={fields.expiryS}
          />
          {draft.headers.map((h, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: headers have no other name while they are typed
            <div key={i} className="grid grid-cols-[130px_1fr] items-start gap-x-3 py-1">
              <input
                aria-label={`Name of header ${i + 1}`}
                value={h.name}
                placeholder="name"
                onChange={(e) => set({ headers: draft.headers.map((x, n) => (n === i ? { ...x, name: e.target.value } : x)) })}
                className={`h-[27px] rounded-sm border bg-sheet px-2 font-mono text-[12.5px] ${fields[`headers.${i}.name`] ? 'border-bad' : 'border-line'}`}
              />
              <div className="flex items-start gap-2">
                {editor(`Value of header ${i + 1}`, h.value, (value) =>
                  set({ headers: draft.headers.map((x, n) => (n === i ? { ...x, value } : x)) }),
                )}
                <Button small aria-label={`Remove header ${i + 1}`} onClick={() => set({ headers: draft.headers.filter((_, n) => n !== i) })}>
                  <X size={13} />
                </Button>
              </div>
              {fields[`headers.${i}.name`] && <div className="col-span-2 text-xs text-bad">{fields[`headers.${i}.name`]}</div>}
            </div>
          ))}
          <div className="flex flex-wrap items-center gap-3 py-1 pl-[142px]">
            <Button small onClick={() => set({ headers: [...draft.headers, { name: '', value: '' }] })}>
              <Plus size={13} /> Header
            </Button>
          </div>
        </>
      ) : (
        <div className="py-1 pl-[142px]">
          <Button small onClick={() => setMore(true)}>
            <Plus size={13} /> Key, headers, content type, expiry
          </Button>
        </div>
      )}
      {preview && preview.topicCount > 0 && (
        <>
          <Heading>
            {countText(preview.topicCount)} {preview.topicCount === 1 ? 'topic' : 'topics'}
          </Heading>
          <TopicTree nodes={preview.tree} />
          {preview.converted.length > 0 && (
            <details className="mt-1">
              <summary className="cursor-pointer text-muted">
                {countText(preview.converted.length)} {preview.converted.length === 1 ? 'name reads' : 'names read'} otherwise in it
              </summary>
              <ul className="mt-1 columns-2 font-mono text-[12px] leading-5" aria-label="Names that read otherwise">
                {preview.converted.map(([from, to]) => (
                  <li key={from} className="truncate">
                    {from} <span className="text-muted">&gt;</span> {to}
                  </li>
                ))}
              </ul>
            </details>
          )}
        </>
      )}
    </>
  )
}

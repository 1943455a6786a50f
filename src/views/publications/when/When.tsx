import type { Finding, PlanEquipment, PublicationDraft } from '~/contract/publication'
import { type Pace, speaksFirst, type Trigger } from '~/contract/trigger'
import { Choice } from '~/ui/Field'
import { Section } from '../Section'
import type { PublicationEdit } from '../usePublicationDraft'
import { SpanInput } from './SpanInput'
import { ChangeFields, EventFields, EveryFields, ScheduleFields, WhenFields } from './TriggerFields'
import { freshTrigger, paceWords, triggerWords } from './words'

interface Props {
  draft: Pick<PublicationDraft, 'trigger' | 'pace' | 'rows'>
  set: PublicationEdit['set']
  example: PlanEquipment | null
  /** What is wrong, by field. */
  fields: Readonly<Record<string, string>>
  open: boolean
  onToggle(): void
  onMend?: ((set: Record<string, unknown>) => void) | undefined
  findings: readonly Finding[]
}

const kinds: { value: Trigger['kind']; label: string }[] = [
  { value: 'change', label: 'On change' },
  { value: 'every', label: 'Every' },
  { value: 'when', label: 'On a condition' },
  { value: 'event', label: 'On an event' },
  { value: 'schedule', label: 'On a schedule' },
  { value: 'hand', label: 'By hand' },
]

const forRows: ReadonlySet<Trigger['kind']> = new Set<Trigger['kind']>(['change', 'every', 'schedule', 'hand'])

/** When it speaks. */
export function When({ draft, set, example, fields, ...clause }: Props) {
  const { trigger, pace } = draft
  const rows = draft.rows !== undefined
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
  const error = (field: string) => fields[`trigger.${field}`]
  const onChange = (next: Trigger) => set({ trigger: next })
  const onTop = paceWords(trigger, pace)
  return (
    <Section
      title="When"
      summary={
        <>
          {triggerWords(trigger, rows)}
          {onTop && <span className="text-muted">; {onTop}</span>}
        </>
      }
      error={Object.entries(fields).find(([field]) => /^(?:trigger|pace)\b/.test(field))?.[1]}
      {...clause}
    >
      <div className="grid gap-3">
        <Choice
          label="Trigger"
          value={trigger.kind}
          options={rows ? kinds.filter((k) => forRows.has(k.value) || k.value === trigger.kind) : kinds}
          onChange={(kind) => onChange(freshTrigger(kind, zone))}
        />
        {trigger.kind === 'change' && rows && (
          <p className="text-muted">
            Each time its source is read: rows that are new or another than they were told, and those that are gone where that is ticked.
          </p>
        )}
        {trigger.kind === 'change' && !rows && <ChangeFields {...{ trigger, example, error, onChange }} />}
        {trigger.kind === 'every' && <EveryFields {...{ trigger, example, error, onChange }} />}
        {trigger.kind === 'when' && <WhenFields {...{ trigger, example, error, onChange }} />}
        {trigger.kind === 'event' && <EventFields {...{ trigger, example, error, onChange }} />}
        {trigger.kind === 'schedule' && <ScheduleFields {...{ trigger, example, error, onChange }} />}
        {trigger.kind === 'hand' && <p className="text-muted">Only when somebody presses Send once, or a script asks for it.</p>}
        <PaceFields trigger={trigger} pace={pace} rows={rows} error={(field) => fields[`pace.${field}`]} onChange={(next) => set({ pace: next })} />
      </div>
    </Section>
  )
}

/** How often each message may go, whatever triggers it. */
function PaceFields({
  trigger,
  pace,
  rows,
  error,
  onChange,
}: {
  trigger: Trigger
  pace: Pace | undefined
  /** How often rows can go out is how often their source is read. */
  rows: boolean
  error(field: string): string | undefined
  onChange(pace: Pace | undefined): void
}) {
  const set = (change: Pace) => {
    const next = Object.fromEntries(Object.entries({ ...pace, ...change }).filter(([, value]) => value !== undefined)) as Pace
    onChange(Object.keys(next).length === 0 ? undefined : next)
  }
  const usual = speaksFirst(trigger, undefined)
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1.5 border-t border-line pt-2.5" role="group" aria-label="How often">
      {(!rows || pace?.mostS !== undefined) && (
        <span className="flex items-center gap-1.5">
          at most every
          <SpanInput label="At most every" value={pace?.mostS} error={error('mostS')} onChange={(mostS) => set({ mostS })} />
        </span>
      )}
      {(!rows || pace?.leastS !== undefined) && (
        <span className="flex items-center gap-1.5">
          at least every
          <SpanInput label="At least every" value={pace?.leastS} error={error('leastS')} onChange={(leastS) => set({ leastS })} />
        </span>
      )}
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-(--clay)"
          checked={pace?.first ?? usual}
          onChange={(e) => set({ first: e.target.checked === usual ? undefined : e.target.checked })}
        />
        also when it begins to run
      </label>
    </div>
  )
}

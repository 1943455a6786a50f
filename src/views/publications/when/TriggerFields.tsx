import type { PlanEquipment } from '~/contract/publication'
import type { PublicationDeadband, Trigger } from '~/contract/trigger'
import { conditionName } from '~/core/publication/condition'
import { isZone, Schedule } from '~/core/publication/timing/schedule'
import { typedNumber } from '~/core/value/typed-number'
import { serverNow } from '~/ui/clock'
import { Choice } from '~/ui/Field'
import { NumberInput } from '~/ui/NumberInput'
import { Time } from '~/ui/time'
import { ExpressionEditor } from '../../equipment/bind/ExpressionEditor'
import { SpanInput } from './SpanInput'

type Of<K extends Trigger['kind']> = Extract<Trigger, { kind: K }>

export interface TriggerProps<K extends Trigger['kind']> {
  trigger: Of<K>
  /** An equipment as it is sent, whose members can be named; null: it is not known yet. */
  example: PlanEquipment | null
  error(field: string): string | undefined
  onChange(trigger: Of<K>): void
}

const bands = {
  tags: "each tag's own deadband",
  absolute: 'so much in its unit',
  range: 'so many % of its range',
  value: 'so many % of the value sent last',
} as const
type Band = keyof typeof bands

function bandOf(kind: Band, amount: number): PublicationDeadband | undefined {
  if (kind === 'tags') return undefined
  return kind === 'absolute' ? { kind, size: amount } : { kind, percent: amount }
}

export function ChangeFields({ trigger, error, onChange }: TriggerProps<'change'>) {
  const { deadband } = trigger
  const kind: Band = deadband?.kind ?? 'tags'
  const amount = deadband ? (deadband.kind === 'absolute' ? deadband.size : deadband.percent) : 1
  const set = (next: Band, size: number) => {
    const band = bandOf(next, size)
    onChange(band ? { kind: 'change', deadband: band } : { kind: 'change' })
  }
  const wrong = error('deadband.size') ?? error('deadband.percent')
  return (
    <div className="flex flex-wrap items-center gap-2">
      <span>beyond</span>
      <select aria-label="Deadband" className="field" value={kind} onChange={(e) => set(e.target.value as Band, amount)}>
        {Object.entries(bands).map(([value, label]) => (
          <option key={value} value={value}>
            {label}
          </option>
        ))}
      </select>
      {kind !== 'tags' && (
        <>
          <NumberInput
            aria-label="Deadband size"
            className="field w-20 font-mono"
            value={amount}
            read={typedNumber}
            onNumber={(size) => set(kind, size)}
          />
          {kind === 'absolute' ? '' : '%'}
          <span className="text-muted">zero: every change counts</span>
        </>
      )}
      {wrong && (
        <span role="alert" className="text-xs text-bad">
          {wrong}
        </span>
      )}
      <p className="w-full text-muted">A change of quality, good to bad or back, always counts.</p>
    </div>
  )
}

export function EveryFields({ trigger, error, onChange }: TriggerProps<'every'>) {
  return (
    <div className="flex flex-wrap items-center gap-3">
      <span className="flex items-center gap-2">
        <NumberInput
          aria-label="Seconds"
          className="field w-20 font-mono"
          value={trigger.seconds}
          read={typedNumber}
          onNumber={(seconds) => onChange({ ...trigger, seconds })}
        />
        s
      </span>
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-(--clay)"
          checked={trigger.aligned ?? false}
          onChange={(e) => onChange({ kind: 'every', seconds: trigger.seconds, ...(e.target.checked && { aligned: true }) })}
        />
        on the clock
      </label>
      {trigger.aligned && (
        <span className="flex items-center gap-1.5">
          and
          <SpanInput label="Seconds after" value={trigger.phaseS} error={error('phaseS')} onChange={(phaseS) => onChange({ ...trigger, phaseS })} />
          after
        </span>
      )}
      {trigger.aligned && <p className="w-full text-muted">On multiples of it since midnight UTC, on any machine at the same moment.</p>}
    </div>
  )
}

export function WhenFields({ trigger, example, error, onChange }: TriggerProps<'when'>) {
  const variables = (example?.members ?? []).map(({ key, dataType, label, unit }) => ({
    name: conditionName(key),
    dataType,
    detail: unit ? `${label}, ${unit}` : label,
  }))
  const editor = (label: string, value: string, change: (text: string) => void) => (
    <div className="min-w-0 flex-1 rounded-sm border border-line bg-sheet">
      <ExpressionEditor label={label} value={value} variables={variables} offer={() => []} onUse={() => undefined} onChange={change} />
    </div>
  )
  return (
    <div className="grid gap-2">
      <div className="flex items-start gap-2">
        <span className="w-16 pt-1 text-muted">holds</span>
        {editor('Condition', trigger.condition, (condition) => onChange({ ...trigger, condition }))}
      </div>
      {error('condition') && (
        <p role="alert" className="pl-[72px] text-xs text-bad">
          {error('condition')}
        </p>
      )}
      <div className="flex items-start gap-2">
        <span className="w-16 pt-1 text-muted">until</span>
        {editor('Until', trigger.until ?? '', (until) => onChange({ ...trigger, until }))}
      </div>
      <p className="pl-[72px] text-xs text-muted">
        Members of each equipment by their keys. Until says when it is over, so that a value about the limit does not begin it again and again; empty:
        when it does not hold any more. A bad value neither begins nor ends it.
      </p>
      <div className="flex flex-wrap items-center gap-3">
        <span className="flex items-center gap-1.5">
          for at least
          <SpanInput label="Holds for" value={trigger.holdS} error={error('holdS')} onChange={(holdS) => onChange({ ...trigger, holdS })} />
        </span>
        <Choice
          label="Speaks"
          value={trigger.on}
          options={[
            { value: 'begin', label: 'Once when it begins' },
            { value: 'while', label: 'At each change while it holds' },
          ]}
          onChange={(on) => onChange({ ...trigger, on })}
        />
      </div>
    </div>
  )
}

const events: { value: Of<'event'>['of']; label: string; about: string }[] = [
  {
    value: 'value',
    label: 'A value comes in',
    about: 'Each time a device or topic tells one, whether or not it is another. Several told at once go in one message.',
  },
  { value: 'record', label: 'A record changes', about: 'When what a record source gave is another. All other members go along as they are then.' },
  {
    value: 'joined',
    label: 'Equipment joins',
    about: 'One message for each that takes part for the first time, as soon as it has its values. Engine starts and new versions do not repeat it.',
  },
]

export function EventFields({ trigger, example, error, onChange }: TriggerProps<'event'>) {
  const { of, member } = trigger
  const keys = (example?.members ?? []).map((m) => m.key)
  return (
    <div className="flex flex-wrap items-center gap-3">
      <Choice label="Event" value={of} options={events} onChange={(next) => onChange({ kind: 'event', of: next })} />
      {of === 'value' && (
        <label className="flex items-center gap-1.5">
          of
          <select
            aria-label="Of which member"
            className="field"
            value={member ?? ''}
            onChange={(e) => onChange({ kind: 'event', of, ...(e.target.value !== '' && { member: e.target.value }) })}
          >
            <option value="">any member</option>
            {[...new Set([...keys, ...(member ? [member] : [])])].map((key) => (
              <option key={key}>{key}</option>
            ))}
          </select>
        </label>
      )}
      {error('member') && (
        <span role="alert" className="text-xs text-bad">
          {error('member')}
        </span>
      )}
      <p className="w-full text-muted">{events.find((e) => e.value === of)!.about}</p>
    </div>
  )
}

const NEXT = 5

/** The next times of a schedule, or what is wrong with it. */
function nextTimes({ cron, zone }: Of<'schedule'>): number[] | string {
  try {
    return Schedule.of(cron, zone).nextOf(NEXT, serverNow())
  } catch (e) {
    return e instanceof Error ? e.message : String(e)
  }
}

export function ScheduleFields({ trigger, onChange }: TriggerProps<'schedule'>) {
  const next = nextTimes(trigger)
  return (
    <div className="grid gap-1.5">
      <div className="flex flex-wrap items-center gap-2">
        <input
          aria-label="Schedule"
          className="field w-52 font-mono"
          value={trigger.cron}
          spellCheck={false}
          onChange={(e) => onChange({ ...trigger, cron: e.target.value })}
        />
        in
        <input
          aria-label="Time zone"
          className="field w-48"
          value={trigger.zone}
          aria-invalid={!isZone(trigger.zone)}
          list="zones"
          spellCheck={false}
          onChange={(e) => onChange({ ...trigger, zone: e.target.value })}
        />
        <datalist id="zones">
          {Intl.supportedValuesOf('timeZone').map((zone) => (
            <option key={zone} value={zone} />
          ))}
        </datalist>
      </div>
      <p className="text-xs text-muted">Minute, hour, day of the month, month, day of the week; with six fields seconds come first.</p>
      {typeof next === 'string' ? (
        <p role="alert" className="text-xs text-bad">
          {next}
        </p>
      ) : (
        <ol aria-label="Next times" className="flex flex-wrap gap-x-4 font-mono text-[12.5px]">
          {next.map((at) => (
            <li key={at}>
              <Time at={at} date />
            </li>
          ))}
        </ol>
      )}
    </div>
  )
}

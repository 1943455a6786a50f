import type { ReactNode } from 'react'
import type { Step, StepKind } from '~/contract/step'
import { DataType } from '~/contract/tag'
import { units } from '~/core/value/unit'
import { Choice } from '~/ui/Field'
import { SpanInput } from '../when/SpanInput'
import { Expression, Line, MemberInput, type Members, MembersInput, namesOver, optional } from './parts'
import { RecordFields } from './RecordFields'
import { ScriptFields } from './ScriptFields'
import { TableFields } from './TableFields'
import { windowChoices } from './words'

export interface StepFieldsProps<S extends Step = Step> {
  step: S
  /** Members as they are when its turn comes. */
  members: Members
  error(field: string): string | undefined
  /** What went wrong with the message that is shown; empty: nothing. */
  problem: string
  /** What a script said. */
  console: readonly string[]
  onChange(step: S): void
}

type Of<K extends StepKind> = Extract<Step, { kind: K }>
type Fields<K extends StepKind> = (props: StepFieldsProps<Of<K>>) => ReactNode

function Gate({ step, members, error, onChange }: StepFieldsProps<Of<'keep'> | Of<'drop'>>) {
  return (
    <>
      <Line label="holds" error={error('condition')}>
        <Expression label="Condition" value={step.condition} members={members} onChange={(condition) => onChange({ ...step, condition })} />
      </Line>
      <Line label="no answer">
        <Choice
          label="Without an answer"
          value={step.unknown}
          options={[
            { value: 'pass', label: 'the message goes on' },
            { value: 'drop', label: 'it goes no further' },
          ]}
          onChange={(unknown) => onChange({ ...step, unknown })}
        />
      </Line>
    </>
  )
}

const SetFields: Fields<'set'> = ({ step, members, error, onChange }) => (
  <>
    <Line label="member" error={error('member')}>
      <MemberInput
        label="Member"
        fresh
        value={step.member}
        members={members.map((m) => m.key)}
        onChange={(member) => onChange({ ...step, member })}
      />
    </Line>
    <Line label="to" error={error('expression')}>
      <Expression label="Expression" value={step.expression} members={members} onChange={(expression) => onChange({ ...step, expression })} />
    </Line>
    <UnitLine value={step.unit} error={error('unit')} onChange={(unit) => onChange(optional(step, 'unit', unit))} />
  </>
)

function UnitLine({ value, error, onChange }: { value: string | undefined; error: string | undefined; onChange(unit: string | undefined): void }) {
  return (
    <Line label="unit" error={error}>
      <input
        aria-label="Unit"
        className="field w-28"
        value={value ?? ''}
        placeholder="as it is"
        list="units"
        onChange={(e) => onChange(e.target.value === '' ? undefined : e.target.value)}
      />
      <datalist id="units">
        {units.map((u) => (
          <option key={u.symbol} value={u.symbol}>
            {u.name}
          </option>
        ))}
      </datalist>
    </Line>
  )
}

const Rename: Fields<'rename'> = ({ step, members, error, onChange }) => (
  <>
    <Line label="member" error={error('member')}>
      <MemberInput label="Member" value={step.member} members={namesOver(members)} onChange={(member) => onChange({ ...step, member })} />
    </Line>
    <Line label="to" error={error('to')}>
      <MemberInput label="New name" fresh value={step.to} members={[]} onChange={(to) => onChange({ ...step, to })} />
    </Line>
  </>
)

const Leave: Fields<'leave'> = ({ step, members, error, onChange }) => (
  <>
    <Line label="leaves out">
      <Choice
        label="What is left out"
        value={step.but ? 'but' : 'these'}
        options={[
          { value: 'these', label: 'these' },
          { value: 'but', label: 'all but these' },
        ]}
        onChange={(v) => onChange({ ...step, but: v === 'but' })}
      />
    </Line>
    <Line label="members" error={error('members')}>
      <MembersInput label="Members" value={step.members} members={namesOver(members)} onChange={(m) => onChange({ ...step, members: m })} />
    </Line>
  </>
)

const Convert: Fields<'convert'> = ({ step, members, error, onChange }) => (
  <>
    <Line label="member" error={error('member')}>
      <MemberInput label="Member" value={step.member} members={members.map((m) => m.key)} onChange={(member) => onChange({ ...step, member })} />
    </Line>
    <UnitLine value={step.unit} error={error('unit')} onChange={(unit) => onChange(optional(step, 'unit', unit))} />
    <Line label="type">
      <select
        aria-label="Type"
        className="field"
        value={step.dataType ?? ''}
        onChange={(e) => onChange(optional(step, 'dataType', e.target.value as DataType | ''))}
      >
        <option value="">as it is</option>
        {DataType.options.map((t) => (
          <option key={t}>{t}</option>
        ))}
      </select>
    </Line>
  </>
)

const Smooth: Fields<'smooth'> = ({ step, members, error, onChange }) => {
  const numbers = members.filter((m) => m.dataType === 'number' || m.dataType === 'integer').map((m) => m.key)
  return (
    <>
      <Line label="members" error={error('members')}>
        <MembersInput label="Members" value={step.members} members={numbers} onChange={(m) => onChange({ ...step, members: m })} />
      </Line>
      <Line label="over" error={error('seconds')}>
        <SpanInput label="Time constant" value={step.seconds} onChange={(seconds) => onChange({ ...step, seconds: seconds ?? Number.NaN })} />
      </Line>
    </>
  )
}

const Bridge: Fields<'bridge'> = ({ step, members, error, onChange }) => (
  <>
    <Line label="members" error={error('members')}>
      <MembersInput label="Members" value={step.members} members={members.map((m) => m.key)} onChange={(m) => onChange({ ...step, members: m })} />
    </Line>
    <Line label="with">
      <Choice
        label="Bridged with"
        value={step.by}
        options={[
          { value: 'last', label: 'the last good value' },
          { value: 'line', label: 'the line of the last two' },
        ]}
        onChange={(by) => onChange({ ...step, by })}
      />
    </Line>
    <Line label="up to" error={error('seconds')}>
      <SpanInput label="Up to" value={step.seconds} onChange={(seconds) => onChange(optional(step, 'seconds', seconds))} />
      <span className="ml-2 text-muted">empty: for as long as it is bad</span>
    </Line>
  </>
)

const Split: Fields<'split'> = ({ step, members, error, onChange }) => {
  const lists = [...new Set(members.flatMap((m) => /^(.*?)\.\d+(?:\.|$)/.exec(m.key)?.[1] ?? []))]
  return (
    <>
      <Line label="list" error={error('member')}>
        <MemberInput label="List" value={step.member} members={lists} onChange={(member) => onChange({ ...step, member })} />
      </Line>
      <Line label="place as" error={error('as')}>
        <MemberInput label="Place as" fresh value={step.as ?? ''} members={[]} onChange={(as) => onChange(optional(step, 'as', as))} />
        <span className="ml-2 text-muted">a member with the place of the item, from 1, for the address</span>
      </Line>
    </>
  )
}

/** A number of messages; empty where none is wanted. */
function CountInput({ value, onChange }: { value: number | undefined; onChange(value: number | undefined): void }) {
  return (
    <span className="inline-flex items-center gap-1.5">
      <input
        aria-label="Or after so many messages"
        inputMode="numeric"
        className="field w-20 font-mono"
        placeholder="-"
        value={value === undefined || Number.isNaN(value) ? '' : String(value)}
        onChange={(e) => onChange(e.target.value.trim() === '' ? undefined : Number(e.target.value))}
      />
      messages
    </span>
  )
}

/** So many messages a list begins with. */
const LIST = 10

const WindowFields: Fields<'window'> = ({ step, members, error, onChange }) => (
  <>
    <Line label="over" error={error('seconds')}>
      <SpanInput label="Window" value={step.seconds} onChange={(seconds) => onChange({ ...step, seconds: seconds ?? Number.NaN })} />
    </Line>
    <Line label="or after" error={error('messages')}>
      <CountInput value={step.messages} onChange={(messages) => onChange(optional(step, 'messages', messages))} />
    </Line>
    <Line label="numbers">
      <Choice
        label="Numbers become"
        value={step.by}
        options={windowChoices}
        onChange={(by) => onChange({ ...step, by, ...(by === 'each' && { messages: step.messages ?? LIST }) })}
      />
    </Line>
    <Line label="apart by" error={error('key')}>
      <MemberInput
        label="Apart by"
        value={step.key ?? ''}
        members={members.map((m) => m.key)}
        onChange={(key) => onChange(optional(step, 'key', key))}
      />
      <span className="ml-2 text-muted">messages with other values of this member are gathered by themselves; empty: all together</span>
    </Line>
    <Line label="count as" error={error('count')}>
      <MemberInput label="Count as" fresh value={step.count ?? ''} members={[]} onChange={(count) => onChange(optional(step, 'count', count))} />
      <span className="ml-2 text-muted">a member with the number of messages that came in; empty: none</span>
    </Line>
  </>
)

const fields: { [K in StepKind]: Fields<K> } = {
  keep: Gate as Fields<'keep'>,
  drop: Gate as Fields<'drop'>,
  repeats: () => null,
  set: SetFields,
  rename: Rename,
  leave: Leave,
  convert: Convert,
  lookup: TableFields,
  record: RecordFields,
  smooth: Smooth,
  bridge: Bridge,
  split: Split,
  window: WindowFields,
  script: ScriptFields,
}

/** What can be chosen of a step. */
export function StepFields(props: StepFieldsProps) {
  const Of = fields[props.step.kind] as (p: StepFieldsProps) => ReactNode
  return <Of {...props} />
}

import type { Step } from '~/contract/step'
import { RowSource } from '../rows/RowSource'
import type { StepFieldsProps } from './fields'
import { Line, MemberInput, optional } from './parts'

/** In the rows of which source something is looked up, and what of a row is taken. */
export function RecordFields({ step, members, error, onChange }: StepFieldsProps<Extract<Step, { kind: 'record' }>>) {
  return (
    <>
      <Line label="looks up" error={error('member')}>
        <MemberInput label="Member" value={step.member} members={members.map((m) => m.key)} onChange={(member) => onChange({ ...step, member })} />
        <span className="ml-2 text-muted">what tells one row from the others</span>
      </Line>
      <Line label="in">
        <RowSource
          chosen={step}
          says="a message takes these columns of its own"
          error={error}
          onChange={(chosen) => onChange({ ...step, ...chosen })}
        />
      </Line>
      <Line label="under" error={error('under')}>
        <MemberInput label="Under" fresh value={step.under ?? ''} members={[]} onChange={(under) => onChange(optional(step, 'under', under))} />
        <span className="ml-2 text-muted">where what it gives stands; empty: at the top</span>
      </Line>
    </>
  )
}

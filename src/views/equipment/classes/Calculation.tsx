import { useState } from 'react'
import type { Expression, Member } from '~/contract/equipment'
import { compileExpression } from '~/core/expression/compile'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { Heading } from '~/ui/Notes'
import { ExpressionEditor } from '../bind/ExpressionEditor'
import { adopt, tidyInputs } from '../bind/ExpressionForm'
import { classUsables } from '../bind/usables'

/** Computing a member the same way in every equipment of a class, from other members of it. */
export function Calculation({
  member,
  members,
  onSave,
  onClose,
}: {
  member: Member
  members: readonly Member[]
  onSave(e: Expression | null): void
  onClose(): void
}) {
  const [text, setText] = useState(member.calculation?.text ?? '')
  const [inputs, setInputs] = useState<Expression['inputs']>(member.calculation?.inputs ?? {})
  const own = classUsables(members, member.id)
  const variables = Object.entries(inputs).map(([name, i]) => {
    const of = i.kind === 'member' ? members.find((m) => m.id === i.path) : undefined
    return {
      name,
      dataType: of?.dataType ?? ('text' as const),
      detail: of ? `${of.label}${of.unit ? `, ${of.unit}` : ''}` : i.kind === 'fact' ? `fact ${i.fact}` : 'gone',
    }
  })
  const compiled = compileExpression(text, variables)
  const problem = text.trim() === '' || 'run' in compiled ? null : compiled.message
  return (
    <Modal
      open
      onClose={onClose}
      width={640}
      title={`Compute ${member.label}`}
      note="In every equipment of the class; one that is bound otherwise keeps its own"
      foot={
        <>
          {member.calculation && (
            <Button className="mr-auto" onClick={() => onSave(null)}>
              Compute it no more
            </Button>
          )}
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            disabled={text.trim() === '' || problem !== null}
            onClick={() => onSave({ text: text.trim(), inputs: tidyInputs(text, inputs) })}
          >
            Take over
          </Button>
        </>
      }
    >
      <ExpressionEditor
        label={`Expression for ${member.label}`}
        value={text}
        onChange={(next) => {
          setText(next)
          setInputs((now) => adopt(next, now, own))
        }}
        variables={variables}
        offer={() => own}
        onUse={(u) => setInputs((now) => ({ ...now, [u.name]: u.input }))}
      />
      <div className="mt-1 min-h-5 text-xs" role="status">
        {problem ? (
          <span className="text-bad">{problem}</span>
        ) : 'run' in compiled && compiled.dataType ? (
          <span className="text-muted">gives a {compiled.dataType}</span>
        ) : null}
      </div>
      <Heading>Members it can use</Heading>
      <div className="flex flex-wrap gap-1.5">
        {own.map((u) => (
          <button
            key={u.name}
            type="button"
            title={u.detail}
            className={`rounded-sm border px-1.5 font-mono text-[12px] leading-5 ${inputs[u.name] ? 'border-slate bg-wash text-slate' : 'border-line bg-sheet hover:border-muted'}`}
            onClick={() => {
              setText(`${text}${text === '' || /[\s([,]$/.test(text) ? '' : ' '}${u.name}`)
              setInputs((now) => ({ ...now, [u.name]: u.input }))
            }}
          >
            {u.name}
          </button>
        ))}
      </div>
    </Modal>
  )
}

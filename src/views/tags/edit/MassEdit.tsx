import { useDeferredValue, useMemo } from 'react'
import type { Tag } from '~/contract/tag'
import { type Surroundings, tagColumns } from '~/core/tag/columns'
import { Choice, Field } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { countText } from '~/ui/time'
import { KeptNote } from '../../shared/DraftNotes'
import { useKeptState } from '../../shared/useKeptState'
import { CellInput } from './CellInput'
import { PlanTable } from './PlanTable'
import type { Around } from './planning.worker'
import { Bar, useApply } from './useApply'
import { usePlan } from './usePlan'

const editable = tagColumns.filter((c) => c.property !== null && c.property !== 'id' && c.property !== 'sourceId')
type How = 'set' | 'replace' | 'before' | 'after'

interface Wanted {
  key: string
  how: How
  text: string
  find: string
}
const begun: Wanted = { key: 'unit', how: 'set', text: '', find: '' }

/** Changes any one property of many tags, with what would change shown first. */
export function MassEdit({
  chosen,
  tags,
  around,
  plain,
  onClose,
}: {
  chosen: readonly Tag[]
  tags: readonly Tag[]
  around: Surroundings
  plain: Around
  onClose(): void
}) {
  const kept = useKeptState<Wanted>('mass edit', begun)
  const { key, how, text, find } = kept.draft
  const column = editable.find((c) => c.key === key)!
  const free = column.choices === null && !column.numeric && key !== 'group' && key !== 'unit'
  const way = free ? how : 'set'
  const typed = useDeferredValue(text)
  const sought = useDeferredValue(find)
  const task = useMemo(() => {
    if (way === 'replace' ? sought === '' : way !== 'set' && typed === '') return null
    const turned = (now: string) =>
      way === 'set' ? typed : way === 'replace' ? now.replaceAll(sought, typed) : way === 'before' ? typed + now : now + typed
    return {
      do: 'rows' as const,
      heading: ['id', key],
      rows: chosen.map((t, i) => ({ line: i + 1, cells: [t.id, turned(column.read(t, around))] })),
    }
  }, [way, typed, sought, key, column, chosen, around])
  const close = () => {
    kept.forget()
    onClose()
  }
  const { planned, problem, progress } = usePlan(task, tags, plain)
  const { foot, note, busy } = useApply(progress ? null : (planned?.plan ?? null), close)
  const name = chosen.length === 1 ? chosen[0]!.name : `${countText(chosen.length)} tags`
  return (
    <Modal
      open
      onClose={() => !busy && close()}
      title={`Edit ${name}`}
      note="What would change shows below; nothing is changed yet"
      width={820}
      foot={foot}
    >
      {note}
      {kept.keptAt !== null && <KeptNote at={kept.keptAt} onForget={kept.again} />}
      <Field label="Property">
        {(p) => (
          <select
            {...p}
            value={key}
            onChange={(e) => {
              kept.set({ key: e.target.value, text: '' })
            }}
            className="field w-64"
          >
            {editable.map((c) => (
              <option key={c.key} value={c.key}>
                {c.label}
              </option>
            ))}
          </select>
        )}
      </Field>
      {free && (
        <div className="py-1 pl-[142px]">
          <Choice
            label="How"
            value={how}
            onChange={(h) => kept.set({ how: h })}
            options={[
              { value: 'set', label: 'set to' },
              { value: 'replace', label: 'replace a part' },
              { value: 'before', label: 'put before' },
              { value: 'after', label: 'put after' },
            ]}
          />
        </div>
      )}
      {way === 'replace' && (
        <Field label="What">{(p) => <input {...p} value={find} onChange={(e) => kept.set({ find: e.target.value })} className="field w-64" />}</Field>
      )}
      <Field label={way === 'replace' ? 'By' : 'Text'} help={column.help}>
        {(p) => <CellInput {...p} column={column} value={text} onValue={(t) => kept.set({ text: t })} className="h-[27px] w-64 border-line" />}
      </Field>
      <div className="mt-2 min-h-[336px]">
        {progress && progress.total > 5000 && <Bar {...progress} what="Looking at tags:" />}
        {problem && <p className="text-bad">{problem.message}</p>}
        {planned && <PlanTable plan={planned.plan} lines={false} />}
      </div>
    </Modal>
  )
}

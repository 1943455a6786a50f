import { Plus, Trash2 } from 'lucide-react'
import { useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Tag, TagPattern } from '~/contract/tag'
import type { Surroundings } from '~/core/tag/columns'
import { BASE, type Course, FOLDER, layDown, makePattern, SOURCE, type Stand, UNIT } from '~/core/tag/pattern'
import { leafOf } from '~/core/tag/view'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { Empty, Heading, ProblemNote } from '~/ui/Notes'
import { TableHead } from '~/ui/TableHead'
import { call, failureIn, refresh, useCall } from '../../app/api'
import { PlanTable } from './PlanTable'
import type { Around } from './planning.worker'
import { useApply } from './useApply'
import { usePlan } from './usePlan'

const courseHeads = [
  { key: 'parameter', head: 'Parameter', width: 160 },
  { key: 'first', head: 'In the first copy' },
  { key: 'step', head: 'Counts on by', width: 128 },
]

/** Keeps a folder of tags as a pattern. */
export function KeepPattern({ folder, tags, around, onClose }: { folder: string; tags: readonly Tag[]; around: Surroundings; onClose(): void }) {
  const [name, setName] = useState(leafOf(folder).replace(/\s*\d+$/, ''))
  const [stands, setStands] = useState<Stand[]>([{ text: leafOf(folder), parameter: 'device' }])
  const [fault, setFault] = useState<string | null>(null)
  const made = useMemo(() => makePattern(name.trim(), folder, tags, around, stands), [name, folder, tags, around, stands])
  const save = async () => {
    if ('problem' in made) return
    try {
      await call('addPattern', { body: made.draft })
      await refresh('listPatterns')
      toast(`The pattern ${made.draft.name} is saved`)
      onClose()
    } catch (e) {
      setFault(failureIn(e).fields?.name ?? failureIn(e).message)
    }
  }
  const change = (i: number, s: Partial<Stand>) => setStands(stands.map((old, k) => (k === i ? { ...old, ...s } : old)))
  return (
    <Modal
      open
      onClose={onClose}
      title={`Make a pattern of ${folder}`}
      note="What differs from copy to copy becomes a parameter"
      width={780}
      foot={
        <Button kind="main" disabled={'problem' in made || name.trim() === ''} onClick={() => void save()}>
          Save pattern
        </Button>
      }
    >
      <TextField
        label="Name"
        value={name}
        error={fault ?? undefined}
        onChange={(e) => {
          setName(e.target.value)
          setFault(null)
        }}
      />
      <Heading
        aside={
          <Button small kind="quiet" onClick={() => setStands([...stands, { text: '', parameter: '' }])}>
            <Plus size={12} /> Parameter
          </Button>
        }
      >
        Words that stand for something else in each copy
      </Heading>
      {stands.map((s, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other identity while they are typed
        <div key={i} className="mb-1 flex items-center gap-2">
          <input aria-label={`Words ${i + 1}`} value={s.text} onChange={(e) => change(i, { text: e.target.value })} className="field w-56" />
          <span className="text-muted">stands for</span>
          <input
            aria-label={`Parameter ${i + 1}`}
            value={s.parameter}
            onChange={(e) => change(i, { parameter: e.target.value.replace(/[{}+]/g, '') })}
            className="field w-40"
          />
          <Button small kind="quiet" aria-label={`Leave out parameter ${i + 1}`} onClick={() => setStands(stands.filter((_, k) => k !== i))}>
            <Trash2 size={12} />
          </Button>
        </div>
      ))}
      {'problem' in made ? (
        <ProblemNote problem={{ message: made.problem, hint: 'Choose another folder' }} />
      ) : (
        <>
          <Heading>What the pattern has, {made.draft.rows.length} tags</Heading>
          <ul className="max-h-64 overflow-auto rounded-sm border border-line bg-sheet font-mono text-[12px]">
            {made.draft.rows.slice(0, 200).map((r) => (
              <li key={r.name} className="flex gap-4 border-b border-line/60 px-2 py-0.5">
                <span className="w-[45%] truncate">{r.name}</span>
                <span className="truncate text-muted">{r.address}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </Modal>
  )
}

const stepAtFirst = (p: string) => (p === SOURCE || p === BASE ? 0 : 1)

/** Lays a pattern down many times, with what would be added shown first. */
export function LayDown({ tags, plain, onClose }: { tags: readonly Tag[]; plain: Around; onClose(): void }) {
  const patterns = useCall('listPatterns')
  const [id, setId] = useState<string | null>(null)
  const pattern = patterns.data?.find((t) => t.id === id) ?? patterns.data?.[0]
  const remove = async (t: TagPattern) => {
    await call('removePattern', { params: { id: t.id } })
    await refresh('listPatterns')
    const { id: _i, ...draft } = t
    toast(`The pattern ${t.name} is removed`, {
      action: { label: 'Undo', onClick: () => void call('addPattern', { body: draft }).then(() => refresh('listPatterns')) },
    })
  }
  if (patterns.data && !pattern)
    return (
      <Modal open onClose={onClose} title="Lay down a pattern" width={560}>
        <Empty title="No pattern yet">
          Point at a folder on the left, open its menu, and make a pattern of it: then it can be laid down as often as there are devices like it.
        </Empty>
      </Modal>
    )
  if (!pattern) return null
  return (
    <Laying
      key={pattern.id}
      pattern={pattern}
      patterns={patterns.data!}
      onPick={setId}
      onRemove={remove}
      tags={tags}
      plain={plain}
      onClose={onClose}
    />
  )
}

function Laying({
  pattern,
  patterns,
  onPick,
  onRemove,
  tags,
  plain,
  onClose,
}: {
  pattern: TagPattern
  patterns: readonly TagPattern[]
  onPick(id: string): void
  onRemove(t: TagPattern): Promise<void>
  tags: readonly Tag[]
  plain: Around
  onClose(): void
}) {
  const [times, setTimes] = useState('3')
  const [courses, setCourses] = useState<Record<string, Course>>(() =>
    Object.fromEntries(pattern.parameters.map((p) => [p, { first: p === SOURCE ? (plain.sources[0]?.name ?? '') : '', step: stepAtFirst(p) }])),
  )
  const n = Number(times)
  const laid = useMemo(
    () => (Number.isInteger(n) && n >= 1 && n <= 5000 ? layDown(pattern, courses, n) : { problem: 'How often? A whole number from 1 to 5000' }),
    [pattern, courses, n],
  )
  const task = useMemo(() => ('problem' in laid ? null : { do: 'rows' as const, ...laid }), [laid])
  const { planned, problem, progress } = usePlan(task, tags, plain)
  const { foot, note, busy } = useApply(progress ? null : (planned?.plan ?? null), onClose)
  const change = (p: string, c: Partial<Course>) => setCourses({ ...courses, [p]: { ...courses[p]!, ...c } })
  return (
    <Modal open onClose={() => !busy && onClose()} title="Lay down a pattern" note="Numbers count on from copy to copy" width={880} foot={foot}>
      {note}
      <div className="flex flex-wrap items-center gap-3">
        <select aria-label="Pattern" value={pattern.id} onChange={(e) => onPick(e.target.value)} className="field w-60">
          {patterns.map((t) => (
            <option key={t.id} value={t.id}>
              {t.name}, {t.rows.length} tags
            </option>
          ))}
        </select>
        <label className="flex items-center gap-2">
          <input aria-label="How often" value={times} onChange={(e) => setTimes(e.target.value)} className="field w-16 text-right font-mono" />
          times
        </label>
        <Button small kind="quiet" onClick={() => void onRemove(pattern)}>
          Remove this pattern
        </Button>
      </div>
      <table className="my-2 w-full max-w-[640px]">
        <TableHead columns={courseHeads} />
        <tbody>
          {pattern.parameters.map((p) => (
            <tr key={p}>
              <td className="px-2 font-mono text-[12.5px]">{`{${p}}`}</td>
              <td className="px-2 py-0.5">
                {p === SOURCE ? (
                  <select
                    aria-label="First source"
                    value={courses[p]!.first}
                    onChange={(e) => change(p, { first: e.target.value })}
                    className="field w-full"
                  >
                    {plain.sources.map((s) => (
                      <option key={s.id}>{s.name}</option>
                    ))}
                  </select>
                ) : (
                  <input
                    aria-label={`First ${p}`}
                    value={courses[p]!.first}
                    placeholder={p === FOLDER ? 'Hall/Meter 4' : p === UNIT ? '14' : p === BASE ? '100' : 'Meter 4'}
                    onChange={(e) => change(p, { first: e.target.value })}
                    className="field w-full"
                  />
                )}
              </td>
              <td className="px-2">
                {p !== SOURCE && (
                  <input
                    aria-label={`Step of ${p}`}
                    type="number"
                    value={courses[p]!.step}
                    onChange={(e) => change(p, { step: Math.trunc(Number(e.target.value)) || 0 })}
                    className="field w-20 font-mono"
                  />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {'problem' in laid && <p className="text-muted">{laid.problem}</p>}
      {problem && <ProblemNote problem={problem} />}
      {planned && task && <PlanTable plan={planned.plan} lines={false} />}
    </Modal>
  )
}

import { ChevronDown, ChevronUp, X } from 'lucide-react'
import { type KeyboardEvent, useEffect, useId, useRef } from 'react'
import type { StepShown } from '~/contract/publication'
import type { Step } from '~/contract/step'
import { stepNames } from '~/core/publication/steps/apply'
import { Glyph } from '~/ui/Glyph'
import { StepFields } from './fields'
import type { Members } from './parts'
import { costWords, stepEffects, stepWords } from './words'

export interface StepRowProps {
  step: Step
  n: number
  /** So many steps come before those of its list. */
  offset: number
  count: number
  open: boolean
  /** What it does to the message that is shown; null: it is not known. */
  shown: StepShown | null
  members: Members
  error(field: string): string | undefined
  /** What preflight says of it. */
  stops: string
  /** It was added just now: what is typed goes into its first field. */
  fresh: boolean
  onToggle(): void
  onChange(step: Step): void
  onMove(by: -1 | 1): void
  onRemove(): void
}

const states = { passes: 'good', held: 'idle', failed: 'bad', unreached: 'idle' } as const
const results = { passes: '', held: 'holds this message back', failed: 'fails', unreached: 'not reached' } as const

/** What it does, in a few words beside it. */
function outcomeWords({ result, passing, changeCount, microseconds }: StepShown): string {
  const parts = [
    results[result],
    passing ? `${passing.count} of ${passing.of} pass` : '',
    result === 'passes' && !passing && changeCount > 0 ? `${changeCount} ${changeCount === 1 ? 'member' : 'members'}` : '',
    microseconds === null ? '' : costWords(microseconds),
  ]
  return parts.filter(Boolean).join(', ')
}

/** One step: what it says, what it does to a real message, and opened what can be changed of it. */
export function StepRow({ step, n, offset, count, open, shown, members, error, stops, fresh, onToggle, onChange, onMove, onRemove }: StepRowProps) {
  const id = useId()
  const fields = useRef<HTMLDivElement>(null)
  useEffect(() => {
    if (fresh) fields.current?.querySelector<HTMLElement>('input, select, textarea, .cm-content')?.focus()
  }, [fresh])
  const name = stepNames[step.kind]
  const keys = (e: KeyboardEvent) => {
    if (!e.altKey || (e.key !== 'ArrowUp' && e.key !== 'ArrowDown')) return
    e.preventDefault()
    onMove(e.key === 'ArrowUp' ? -1 : 1)
  }
  const icon = 'grid size-6 place-items-center rounded-sm text-muted hover:bg-wash hover:text-ink disabled:opacity-30'
  return (
    <li className={`border-t border-line first:border-t-0 ${open ? 'bg-paper/60' : ''}`} aria-label={`Step ${offset + n + 1}: ${name}`}>
      {/* biome-ignore lint/a11y/noStaticElementInteractions: the keys belong to the buttons in it */}
      <div className="flex h-[30px] items-center gap-2 pr-1" onKeyDown={keys}>
        <button type="button" aria-expanded={open} aria-controls={id} onClick={onToggle} className="flex min-w-0 flex-1 items-center gap-2 text-left">
          <span className="w-5 text-right font-mono text-xs text-muted">{offset + n + 1}</span>
          <span className="w-[108px] shrink-0">{name}</span>
          <code className="min-w-0 flex-1 truncate font-mono text-[12.5px]">{stepWords(step)}</code>
        </button>
        {shown && (
          <span className="flex items-center gap-1.5 text-xs whitespace-nowrap text-muted">
            {outcomeWords(shown)}
            <Glyph state={states[shown.result]} />
          </span>
        )}
        <button
          type="button"
          aria-label={`Move step ${offset + n + 1} up`}
          title="Alt and up"
          disabled={n === 0}
          onClick={() => onMove(-1)}
          className={icon}
        >
          <ChevronUp size={14} />
        </button>
        <button
          type="button"
          aria-label={`Move step ${offset + n + 1} down`}
          title="Alt and down"
          disabled={n === count - 1}
          onClick={() => onMove(1)}
          className={icon}
        >
          <ChevronDown size={14} />
        </button>
        <button type="button" aria-label={`Remove step ${offset + n + 1}`} onClick={onRemove} className={icon}>
          <X size={14} />
        </button>
      </div>
      {open && (
        <div id={id} ref={fields} className="grid grid-cols-[minmax(0,1fr)] gap-2 pr-3 pb-2.5 pl-7">
          <StepFields
            step={step}
            members={members}
            error={error}
            problem={step.kind === 'script' ? stops || (shown?.problem ?? '') : ''}
            console={shown?.console ?? []}
            onChange={onChange}
          />
          {shown?.problem && (
            <p role="alert" className="text-bad">
              {shown.problem}
            </p>
          )}
          {shown && <Changes shown={shown} />}
          <p className="text-xs text-muted">{stepEffects[step.kind]}</p>
        </div>
      )}
    </li>
  )
}

/** The message before and after it. */
function Changes({ shown }: { shown: StepShown }) {
  if (shown.changes.length === 0) return shown.result === 'passes' ? <p className="text-muted">This message is the same after it.</p> : null
  return (
    <table className="w-full text-[12.5px]" aria-label="Before and after">
      <thead>
        <tr className="text-left text-xs text-muted">
          {['member', 'before', 'after', 'quality'].map((h) => (
            <th key={h} scope="col" className="border-b border-line pr-3 font-normal">
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody className="font-mono">
        {shown.changes.map((c) => (
          <tr key={c.member}>
            <td className="max-w-52 truncate pr-3">{c.member}</td>
            <td className={`max-w-44 truncate pr-3 ${c.after === null ? 'line-through' : ''} text-muted`}>{c.before ?? '-'}</td>
            <td className={`max-w-44 truncate pr-3 ${c.after === null ? 'text-muted' : 'font-semibold text-clay'}`}>{c.after ?? 'left out'}</td>
            <td className="text-muted">{c.quality}</td>
          </tr>
        ))}
        {shown.changeCount > shown.changes.length && (
          <tr>
            <td colSpan={4} className="text-muted">
              and {shown.changeCount - shown.changes.length} more
            </td>
          </tr>
        )}
      </tbody>
    </table>
  )
}

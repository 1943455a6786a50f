import { Plus } from 'lucide-react'
import { type KeyboardEvent, type ReactNode, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Finding, PlanEquipment, Preview } from '~/contract/publication'
import type { Step } from '~/contract/step'
import { applySteps, type Between, stepNames } from '~/core/publication/steps/apply'
import { Button } from '~/ui/Button'
import { Menu } from '~/ui/Menu'
import { Section } from '../Section'
import { useStepHistory } from './history'
import { StepRow } from './StepRow'
import { freshStep, stepOffers, stepsSentence } from './words'

interface Props {
  title?: string
  /** What stands for it before, and in, its list. */
  none?: { summary: string; says: string }
  /** Which field of the draft it is. */
  field?: 'steps' | 'own'
  /** What goes before them. */
  before?: readonly Step[]
  /** Stands over the list. */
  children?: ReactNode
  /** What is said beside them when it is closed. */
  beside?: string
  steps: readonly Step[]
  onSteps(steps: readonly Step[]): void
  example: PlanEquipment | null
  preview: Preview | null
  /** What is wrong, by field. */
  fields: Readonly<Record<string, string>>
  /** Whether the values of one moment are held. */
  held: boolean
  onHold(held: boolean): void
  open: boolean
  onToggle(): void
  onMend?: ((set: Record<string, unknown>) => void) | undefined
  findings: readonly Finding[]
}

/** Members of the example as they are before each step, and after the last. */
function membersAt(steps: readonly Step[], example: PlanEquipment | null): PlanEquipment['members'][] {
  const out: PlanEquipment['members'][] = []
  if (!example) return out
  try {
    applySteps(steps, [example], (between: Between) => out.push(between[0]?.members ?? []))
  } catch {
    // Half typed: what is known so far is enough.
  }
  return out
}

/** What is done to each message on its way, one step after the other. */
export function Steps({
  title = 'Steps',
  none = { summary: 'sent as read', says: 'Messages go as the tags were read. A step changes them, or holds some back.' },
  field: own = 'steps',
  before = [],
  children,
  beside = '',
  steps,
  onSteps,
  example,
  preview,
  fields,
  held,
  onHold,
  findings,
  open,
  onToggle,
  onMend,
}: Props) {
  const [chosen, setChosen] = useState<number | null>(null)
  const [fresh, setFresh] = useState<number | null>(null)
  const history = useStepHistory(steps, onSteps)
  const offset = before.length
  const at = useMemo(() => membersAt([...before, ...steps], example).slice(before.length), [before, steps, example])
  const shown = preview && preview.steps.length >= offset + steps.length ? preview.steps.slice(offset, offset + steps.length) : []
  const stopsOf = (n: number) => findings.find((f) => f.step === offset + n && f.severity === 'stops')?.message ?? ''
  const add = (step: Step) => {
    history.set([...steps, step])
    setChosen(steps.length)
    setFresh(steps.length)
  }
  const remove = (n: number) => {
    history.set(steps.filter((_, i) => i !== n))
    setChosen(null)
    setFresh(null)
    toast(`Step ${offset + n + 1}, ${stepNames[steps[n]!.kind]}, is taken out`, { action: { label: 'Undo', onClick: () => onSteps(steps) } })
  }
  const move = (n: number, by: -1 | 1) => {
    const to = n + by
    if (to < 0 || to >= steps.length) return
    history.set(steps.toSpliced(n, 1).toSpliced(to, 0, steps[n]!))
    setChosen((c) => (c === n ? to : c === to ? n : c))
    setFresh(null)
  }
  const keys = (e: KeyboardEvent) => {
    const typing = e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))
    if (typing || !(e.ctrlKey || e.metaKey)) return
    const key = e.key.toLowerCase()
    const done = key === 'z' && !e.shiftKey ? history.undo() : key === 'y' || (key === 'z' && e.shiftKey) ? history.redo() : false
    if (done) e.preventDefault()
  }
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the keys belong to what is in it
    <div onKeyDown={keys}>
      <Section
        title={title}
        summary={
          steps.length === 0 ? (
            <span className="text-muted">{beside || none.summary}</span>
          ) : (
            <>
              {beside && <span className="text-muted">{beside}; </span>}
              {stepsSentence(steps)}
            </>
          )
        }
        error={Object.entries(fields).find(([field]) => field.split('.')[0] === own)?.[1]}
        findings={findings}
        open={open}
        onToggle={onToggle}
        onMend={onMend}
      >
        <div className="grid grid-cols-[minmax(0,1fr)] gap-2">
          {children}
          {steps.length > 0 && (
            <ol className="rounded-sm border border-line" aria-label={`${title} in their order`}>
              {steps.map((step, n) => (
                <StepRow
                  // biome-ignore lint/suspicious/noArrayIndexKey: a step is its place
                  key={n}
                  step={step}
                  n={n}
                  offset={offset}
                  count={steps.length}
                  open={chosen === n}
                  fresh={fresh === n}
                  shown={shown[n] ?? null}
                  members={at[n] ?? []}
                  error={(field) => fields[`${own}.${n}.${field}`]}
                  stops={stopsOf(n)}
                  onToggle={() => setChosen(chosen === n ? null : n)}
                  onChange={(next) => history.set(steps.with(n, next))}
                  onMove={(by) => move(n, by)}
                  onRemove={() => remove(n)}
                />
              ))}
            </ol>
          )}
          {steps.length === 0 && <p className="text-muted">{none.says}</p>}
          <div className="flex items-center gap-3">
            <Menu
              align="start"
              leaves
              items={stepOffers.map(({ kind, says }) => ({ label: `${stepNames[kind]}: ${says}`, onSelect: () => add(freshStep(kind)) }))}
            >
              <Button small>
                <Plus size={13} /> Add a step
              </Button>
            </Menu>
            {steps.length > 0 && (
              <Button small kind="quiet" aria-pressed={held} onClick={() => onHold(!held)} disabled={!preview || preview.held.length === 0}>
                {held ? 'Follow the tags again' : 'Hold these values'}
              </Button>
            )}
            {held && <span className="text-uncertain">The steps work on the values of the moment at which they were held.</span>}
          </div>
        </div>
      </Section>
    </div>
  )
}

import type { CellState, CoverageCounts } from '~/core/equipment/coverage'
import { Glyph } from '~/ui/Glyph'
import { countText } from '~/ui/time'
import { stateWords } from './CoverageGrid'

/** States of members, what asks for work first. */
export const stateOrder: readonly CellState[] = ['missing', 'broken', 'mismatch', 'bad', 'uncertain', 'open', 'good']

interface Props {
  used: readonly { id: string; name: string; n: number }[]
  classId: string | null
  counts: CoverageCounts
  state: CellState | null
  onClass(id: string): void
  onState(state: CellState | null): void
}

/** Classes that equipment has, and the states in which its members are. */
export function Shelf({ used, classId, counts, state, onClass, onState }: Props) {
  return (
    <>
      <ul aria-label="Classes">
        {used.map((c) => (
          <li key={c.id}>
            <button
              type="button"
              aria-pressed={c.id === classId}
              onClick={() => onClass(c.id)}
              className={`flex h-[26px] w-full items-center justify-between border-l-2 px-3 text-left ${c.id === classId ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'}`}
            >
              <span className="truncate">{c.name}</span>
              <span className="font-mono text-[12px] text-muted">{countText(c.n)}</span>
            </button>
          </li>
        ))}
      </ul>
      <div className="mx-3 my-1.5 border-t border-line" />
      <ul aria-label="States">
        {stateOrder.map((s) => (
          <li key={s}>
            <button
              type="button"
              aria-pressed={state === s}
              onClick={() => onState(state === s ? null : s)}
              className={`flex h-[24px] w-full items-center gap-2 border-l-2 px-3 text-left ${state === s ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'} ${counts[s] === 0 ? 'text-muted' : ''}`}
            >
              <span className="w-[14px]" aria-hidden="true">
                {counts[s] > 0 && <Glyph state={stateWords[s].glyph!} />}
              </span>
              {stateWords[s].label}
              <span className="ml-auto font-mono text-[12px] text-muted">{countText(counts[s])}</span>
            </button>
          </li>
        ))}
      </ul>
    </>
  )
}

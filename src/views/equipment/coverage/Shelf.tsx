import type { CellState, CoverageCounts } from '~/core/equipment/coverage'
import { Glyph } from '~/ui/Glyph'
import { PickFigure, PickRow } from '~/ui/PickRow'
import { countText } from '~/ui/time'
import { stateWords } from './CoverageGrid'

/** States of members, what asks for work first. */
export const stateOrder: readonly CellState[] = ['missing', 'broken', 'mismatch', 'bad', 'uncertain', 'open', 'good']

interface Props {
  used: readonly { id: string; name: string; n: number }[]
  classId: string | null
  /** null: not known yet. */
  counts: CoverageCounts | null
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
          <PickRow key={c.id} picked={c.id === classId} onPick={() => onClass(c.id)}>
            <span className="truncate">{c.name}</span>
            <PickFigure>{countText(c.n)}</PickFigure>
          </PickRow>
        ))}
      </ul>
      <div className="mx-3 my-1.5 border-t border-line" />
      <ul aria-label="States">
        {stateOrder.map((s) => (
          <PickRow key={s} picked={state === s} onPick={() => onState(state === s ? null : s)} faint={counts?.[s] === 0}>
            <span className="w-[14px]" aria-hidden="true">
              {counts && counts[s] > 0 && <Glyph state={stateWords[s].glyph!} />}
            </span>
            {stateWords[s].label}
            <PickFigure>{counts ? countText(counts[s]) : '...'}</PickFigure>
          </PickRow>
        ))}
      </ul>
    </>
  )
}

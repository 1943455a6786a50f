import { describe, expect, it } from 'vitest'
import { conflictsIn, type TypedCells, withCell } from './typed'

const empty: TypedCells = { typed: {}, was: {} }

describe('what is typed into the properties of a tag', () => {
  it('is a change only while it differs from what is stored', () => {
    const one = withCell(empty, 'unit', 'K', '°C')
    expect(one).toEqual({ typed: { unit: 'K' }, was: { unit: '°C' } })
    expect(withCell(one, 'unit', '°C', '°C')).toEqual(empty)
  })
  it('remembers what each text began from, not what came since', () =>
    expect(withCell(withCell(empty, 'unit', 'K', '°C'), 'unit', 'F', 'mbar').was).toEqual({ unit: '°C' }))
  it('clashes only where somebody else saved another text for the same column', () => {
    const cells = withCell(withCell(empty, 'unit', 'K', '°C'), 'deadband', '1', '')
    const stored = (theirs: Record<string, string>) => (key: string) => theirs[key] ?? ''
    expect(conflictsIn(cells, stored({ unit: '°C', description: 'new' }))).toEqual([])
    expect(conflictsIn(cells, stored({ unit: 'K' }))).toEqual([])
    expect(conflictsIn(cells, stored({ unit: '', deadband: '2' }))).toEqual([
      { path: 'unit', theirs: 'nothing', mine: 'K' },
      { path: 'deadband', theirs: '2', mine: '1' },
    ])
  })
})

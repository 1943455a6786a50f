import type { Difference } from '~/core/value/differences'

/** Texts of columns that were typed and not saved, and what was stored when each was begun. */
export interface TypedCells {
  typed: Readonly<Record<string, string>>
  was: Readonly<Record<string, string>>
}

/** With one more text; one that is what is stored is no change. */
export function withCell({ typed, was }: TypedCells, key: string, text: string, stored: string): TypedCells {
  const next = { typed: { ...typed }, was: { ...was } }
  if (text === stored) {
    delete next.typed[key]
    delete next.was[key]
  } else {
    next.typed[key] = text
    next.was[key] ??= stored
  }
  return next
}

/** Where somebody else has saved another text meanwhile than the one that the typing began from. */
export function conflictsIn({ typed, was }: TypedCells, stored: (key: string) => string): Difference[] {
  return Object.keys(typed).flatMap((key) => {
    const theirs = stored(key)
    return theirs === was[key] || theirs === typed[key] ? [] : [{ path: key, theirs: theirs || 'nothing', mine: typed[key] || 'nothing' }]
  })
}

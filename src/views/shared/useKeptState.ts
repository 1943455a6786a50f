import { useEffect, useState } from 'react'
import { useKept } from './kept'

/**
 * What is typed into a small form, kept over leaving and a reload until it is saved or thrown away. `start` is what the form
 * begins with; a draft of another version than `version` is not taken up again.
 */
export function useKeptState<T extends object>(place: string, start: T, version: number | null = null) {
  const { found, keep } = useKept<T>(place, start)
  const [draft, setDraft] = useState<T>(found && found.version === version ? found.draft : start)
  const [at, setAt] = useState(found && found.version === version ? found.at : null)
  const [over, setOver] = useState(false)
  const dirty = JSON.stringify(draft) !== JSON.stringify(start)
  useEffect(() => {
    if (!over) keep(dirty ? { draft, version } : null)
  }, [draft, dirty, over, keep, version])
  return {
    draft,
    set: (change: Partial<T>) => setDraft((old) => ({ ...old, ...change })),
    keptAt: dirty ? at : null,
    again: () => {
      setDraft(start)
      setAt(null)
    },
    /** It was saved, or thrown away on purpose. */
    forget: () => {
      setOver(true)
      keep(null)
    },
  }
}

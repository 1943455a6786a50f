import { useEffect, useState } from 'react'
import { toast } from 'sonner'
import { type Difference, differences } from '~/core/value/differences'
import { useKept } from './kept'

/** A draft of more characters than this is kept when typing pauses for so long, ms; a smaller one at once. */
const LARGE = 20_000
const SETTLES_MS = 150

interface Stored<T> {
  version: number
  draft: T
}

/**
 * A draft of one thing: kept over leaving and reload, and held against what is stored while it is written. `stored` is null for a
 * new thing, which begins as `fresh`. `revive` brings what an older program kept into the form of today.
 */
export function useDraft<T extends object>(place: string, stored: Stored<T> | null, fresh: T, revive: (draft: unknown) => unknown = (d) => d) {
  const base = stored?.draft ?? fresh
  const { found, keep } = useKept(place, base, revive)
  const [draft, setDraft] = useState<T>(found?.draft ?? base)
  const [begun, setBegun] = useState<number | null>(found ? found.version : (stored?.version ?? null))
  const [keptAt, setKeptAt] = useState(found?.at ?? null)
  const [done, setDone] = useState(false)
  const text = JSON.stringify(draft)
  const baseText = JSON.stringify(base)
  const dirty = text !== baseText
  const newer = stored !== null && begun !== null && stored.version !== begun
  // Who has typed nothing sees what somebody else saved.
  // biome-ignore lint/correctness/useExhaustiveDependencies: when another version comes
  useEffect(() => {
    if (!newer || dirty) return
    setBegun(stored.version)
  }, [newer, dirty])
  const [shown, setShown] = useState(baseText)
  if (shown !== baseText) {
    // What is stored has changed: whoever wrote nothing goes on from there.
    if (text === shown) setDraft(base)
    setShown(baseText)
  }
  // biome-ignore lint/correctness/useExhaustiveDependencies: the text says what the draft is
  useEffect(() => {
    // A new thing that was saved is none any more.
    if (stored === null && done) return
    const put = () => keep(dirty ? { draft, version: begun } : null)
    if (text.length < LARGE) return put()
    const timer = setTimeout(put, SETTLES_MS)
    return () => clearTimeout(timer)
  }, [text, dirty, begun, done])
  const take = (next: Stored<T>) => {
    setDone(true)
    setDraft(next.draft)
    setBegun(next.version)
    setKeptAt(null)
    keep(null)
  }
  return {
    draft,
    setDraft,
    begun,
    dirty,
    /** When it was typed, if that was before this editor opened; null: it was not, or is what is stored. */
    keptAt: dirty && !newer ? keptAt : null,
    forget: () => {
      setDraft(base)
      setBegun(stored?.version ?? null)
      setKeptAt(null)
      keep(null)
    },
    /** It was saved so. */
    saved: take,
    /** In what it differs from what somebody else has saved meanwhile; null: nobody has. */
    conflict: newer && dirty ? (differences(base, draft) as Difference[]) : null,
    takeTheirs: () => {
      const mine = draft
      take({ draft: base, version: stored!.version })
      toast('Taken as somebody else saved it', { action: { label: 'Back to mine', onClick: () => setDraft(mine) } })
    },
    takeMine: () => setBegun(stored!.version),
  }
}

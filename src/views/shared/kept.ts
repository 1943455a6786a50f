import { useContext, useMemo } from 'react'
import { CallerContext } from '../app/caller'

/** What somebody began to write and has not saved: it outlives leaving the page, a reload and the browser. */
export interface Kept<T> {
  draft: T
  /** The version of the thing that they began with; null: it is a new one. */
  version: number | null
  /** Epoch ms. */
  at: number
}

const PREFIX = 'embrik draft'
/** Older ones are thrown away, ms. */
const OLD_MS = 14 * 86_400_000
const LARGEST = 500_000

/** Where drafts are: the browser's own store, or nowhere, where it has none or no room. */
type Shelf = Pick<Storage, 'getItem' | 'setItem' | 'removeItem'>

/** Reads a draft; null where there is none, or nothing that can be used. */
export function readKept<T>(
  shelf: Shelf,
  key: string,
  fits: (draft: unknown) => boolean,
  now: number,
  revive: (draft: unknown) => unknown = (d) => d,
): Kept<T> | null {
  try {
    const kept = JSON.parse(shelf.getItem(key) ?? 'null') as Kept<T> | null
    if (kept === null || typeof kept !== 'object' || !(now - kept.at < OLD_MS)) return null
    const draft = revive(kept.draft)
    return fits(draft) ? { ...kept, draft: draft as T } : null
  } catch {
    return null
  }
}

/** Keeps a draft, or nothing any more. */
export function writeKept<T>(shelf: Shelf, key: string, kept: Kept<T> | null): void {
  try {
    const text = kept && JSON.stringify(kept)
    if (text === null || text.length > LARGEST) shelf.removeItem(key)
    else shelf.setItem(key, text)
  } catch {
    // No room, or a browser that keeps nothing: what is typed then lives as long as the page.
  }
}

/** Whether a draft has the same fields as one that this version of the program would make. */
export const sameFields =
  (like: object) =>
  (draft: unknown): boolean =>
    typeof draft === 'object' && draft !== null && Object.keys(like).every((k) => k in draft)

/** The draft of one thing by whoever is logged in. */
export function useKept<T extends object>(
  place: string,
  like: T,
  revive?: (draft: unknown) => unknown,
): { found: Kept<T> | null; keep(kept: Omit<Kept<T>, 'at'> | null): void } {
  const { id } = useContext(CallerContext)
  const key = `${PREFIX} ${id} ${place}`
  // biome-ignore lint/correctness/useExhaustiveDependencies: what was there when the editor opened
  return useMemo(
    () => ({
      found: readKept<T>(localStorage, key, sameFields(like), Date.now(), revive),
      keep: (kept) => writeKept(localStorage, key, kept && { ...kept, at: Date.now() }),
    }),
    [key],
  )
}

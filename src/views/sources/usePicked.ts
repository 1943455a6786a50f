import { useEffect, useState } from 'react'
import { useKept } from '../shared/kept'

interface Draft<T> {
  picked: T[]
}

/** What is chosen to become tags, by address: it outlives leaving the page. What is a tag already is not chosen. */
export function usePicked<T extends { address: string }>(place: string, taken: ReadonlyMap<string, string>) {
  const { found, keep } = useKept<Draft<T>>(place, { picked: [] })
  const [picked, setPicked] = useState<ReadonlyMap<string, T>>(() => new Map((found?.draft.picked ?? []).map((one) => [one.address, one])))
  useEffect(() => keep(picked.size > 0 ? { draft: { picked: [...picked.values()] }, version: null } : null), [picked, keep])
  return {
    picked,
    clear: () => setPicked(new Map()),
    pick: (all: readonly T[], on: boolean) =>
      setPicked((old) => {
        const next = new Map(old)
        for (const one of all) {
          if (on && !taken.has(one.address)) next.set(one.address, one)
          else next.delete(one.address)
        }
        return next
      }),
  }
}

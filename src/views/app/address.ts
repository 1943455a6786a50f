import { type Dispatch, type SetStateAction, useEffect, useMemo, useRef, useState } from 'react'
import { navigate, useSearch } from 'wouter/use-browser-location'
import { placeAt } from './places'

/** Goes to an address: without a new document where it is a page of this interface. */
export function go(href: string): void {
  const to = new URL(href, location.href)
  if (to.origin !== location.origin || !placeAt(to.pathname)) return location.assign(href)
  if (to.href !== location.href) navigate(to.pathname + to.search + to.hash)
}

/** Where a link leads that a click follows here: null when the browser is to follow it as ever. */
export function followed(e: MouseEvent): string | null {
  if (e.defaultPrevented || e.button !== 0 || e.ctrlKey || e.metaKey || e.shiftKey || e.altKey) return null
  const link = e.target instanceof Element ? e.target.closest('a') : null
  if (!(link instanceof HTMLAnchorElement) || link.target !== '' || link.hasAttribute('download') || link.origin !== location.origin) return null
  return placeAt(link.pathname) ? link.href : null
}

/** Whether Back leads to what was there before, or past it. */
export type How = 'push' | 'replace'

/** Changes what stands behind the `?` of the address; null takes a name away. */
export function setParams(changes: Readonly<Record<string, string | null>>, how: How = 'replace'): void {
  const params = new URLSearchParams(location.search)
  for (const [name, value] of Object.entries(changes))
    if (value === null) params.delete(name)
    else params.set(name, value)
  const search = params.size > 0 ? `?${params}` : ''
  if (search !== location.search) navigate(location.pathname + search + location.hash, { replace: how === 'replace' })
}

/** What stands behind the `?` of the address, now. */
export function useParams(): URLSearchParams {
  const search = useSearch()
  return useMemo(() => new URLSearchParams(search), [search])
}

/** One thing of the address: what is chosen, filtered or zoomed stays there for reload, Back, and a colleague. */
export function useParam(name: string): [value: string | null, set: (next: string | null, how?: How) => void] {
  const value = useParams().get(name)
  const set = useMemo(() => (next: string | null, how?: How) => setParams({ [name]: next }, how), [name])
  return [value, set]
}

/** What is typed stands in the address a moment later, ms. */
const SETTLES_MS = 150

/**
 * A state that is also in the address: `read` takes it from there, `write` says what stands there for it. Both are given once for all.
 * Back, links and reload set it; with `push` each change is a step for Back.
 */
export function useInAddress<S>(
  read: (params: URLSearchParams) => S,
  write: (state: S) => Readonly<Record<string, string | null>>,
  how: How = 'replace',
): [S, Dispatch<SetStateAction<S>>] {
  const params = useParams()
  const [state, setState] = useState(() => read(params))
  const there = JSON.stringify(write(read(params)))
  const known = useRef(there)
  // biome-ignore lint/correctness/useExhaustiveDependencies: what stands there says all; read and write stay the same
  useEffect(() => {
    if (there === known.current) return
    known.current = there
    setState(read(params))
  }, [there])
  // biome-ignore lint/correctness/useExhaustiveDependencies: as above
  useEffect(() => {
    const own = JSON.stringify(write(state))
    if (own === known.current) return
    const put = () => {
      // What stood there for the state before, and does not for this one, goes.
      const before = Object.keys(JSON.parse(known.current) as object).map((name) => [name, null])
      known.current = own
      setParams({ ...Object.fromEntries(before), ...write(state) }, how)
    }
    if (how === 'push') return put()
    const timer = setTimeout(put, SETTLES_MS)
    return () => clearTimeout(timer)
  }, [state])
  return [state, setState]
}

/** As `useInAddress`, for one text or nothing. */
export function useTextInAddress(name: string, how: How = 'replace'): [string | null, Dispatch<SetStateAction<string | null>>] {
  return useInAddress(
    (params) => params.get(name) || null,
    (text) => ({ [name]: text }),
    how,
  )
}

/** A filter that is typed. */
export function useFilterInAddress(name = 'q'): [string, Dispatch<SetStateAction<string>>] {
  return useInAddress(
    (params) => params.get(name) ?? '',
    (text) => ({ [name]: text || null }),
  )
}

/** Whether the form for a new thing is open: a link may ask for it (`?add`). */
export function useAdding(): [boolean, (on: boolean) => void] {
  const on = useParams().has('add')
  return [on, useMemo(() => (next: boolean) => setParams({ add: next ? '1' : null }), [])]
}

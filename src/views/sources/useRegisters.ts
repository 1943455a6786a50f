import { useEffect, useState } from 'react'
import type { RegisterLook, RegisterQuery } from '~/contract/sources/modbus'
import { serverNow } from '~/ui/clock'
import { callStream, failureIn } from '../app/api'

/** Looks at registers again and again while the page is open; begins anew when the question changes. */
export function useRegisters(sourceId: string | undefined, query: RegisterQuery): { look: RegisterLook | null; before: RegisterLook | null } {
  const [looks, setLooks] = useState<{ look: RegisterLook | null; before: RegisterLook | null }>({ look: null, before: null })
  const { unit, area, offset, count } = query
  useEffect(() => {
    if (!sourceId) return
    const stop = new AbortController()
    setLooks({ look: null, before: null })
    const problem = (message: string, hint: string) => setLooks({ look: { at: serverNow(), ms: 0, words: [], problem: message, hint }, before: null })
    // Typed numbers change a few times a second: only the last one is asked for.
    const timer = setTimeout(() => {
      callStream('lookAtRegisters', { params: { id: sourceId }, body: { unit, area, offset, count }, signal: stop.signal }, (look) =>
        setLooks((old) => ({ look, before: old.look })),
      ).catch((e: unknown) => {
        if (!stop.signal.aborted) problem(failureIn(e).message, failureIn(e).hint)
      })
    }, 250)
    return () => {
      clearTimeout(timer)
      stop.abort()
    }
  }, [sourceId, unit, area, offset, count])
  return looks
}

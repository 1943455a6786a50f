import { useEffect, useState } from 'react'
import type { RegisterLook, RegisterQuery } from '~/contract/sources/modbus'
import type { Problem } from '~/ui/Notes'
import { callStream } from '../../app/api'
import { useLasting } from '../../app/lasting'

export interface Looks {
  /** The last look that brought registers. */
  look: RegisterLook | null
  before: RegisterLook | null
  /** Why there is no newer one; what `look` shows is old then. */
  problem: Problem | null
  old: boolean
}

const none = { look: null, before: null, problem: null }

/** Looks at registers again and again while the page is seen; what was read last stays while the device or the line is silent. */
export function useRegisters(sourceId: string | undefined, query: RegisterQuery): Looks {
  const [looks, setLooks] = useState<Omit<Looks, 'old'>>(none)
  const { unit, area, offset, count } = query
  const key = sourceId === undefined ? null : `${sourceId} ${unit} ${area} ${offset} ${count}`
  // biome-ignore lint/correctness/useExhaustiveDependencies: another question has other answers
  useEffect(() => setLooks(none), [key])
  const lasting = useLasting(key, (signal, alive) =>
    callStream(
      'lookAtRegisters',
      { params: { id: sourceId! }, body: { unit, area, offset, count }, signal },
      (look) =>
        setLooks((had) =>
          look.problem !== undefined
            ? { ...had, problem: { message: look.problem, hint: look.hint ?? '' } }
            : { look, before: had.look, problem: null },
        ),
      alive,
    ),
  )
  const problem = lasting.problem ?? looks.problem
  return { ...looks, problem, old: looks.look !== null && (problem !== null || lasting.state === 'old') }
}

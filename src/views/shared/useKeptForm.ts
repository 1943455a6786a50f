import { useEffect, useState } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import { useKept } from './kept'

/**
 * Keeps what is typed into a form over a reload, but nothing secret. Gives when it was typed, if that was before this form opened, and how to
 * forget it: when it is saved, or thrown away.
 */
export function useKeptForm(
  form: UseFormReturn<FieldValues>,
  place: string,
  version: number | null,
  start: FieldValues,
  secrets: readonly string[] = [],
) {
  const { found, keep } = useKept<FieldValues>(place, start)
  const [at, setAt] = useState(found?.at ?? null)
  const [begun] = useState(found ? found.version : version)
  const { reset, watch } = form
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when it opens
  useEffect(() => {
    if (found) reset({ ...start, ...found.draft }, { keepDefaultValues: true })
    const open = (values: FieldValues) => Object.fromEntries(Object.entries(values).filter(([name]) => !secrets.includes(name)))
    const typed = watch((values) => {
      const draft = open(values)
      keep(JSON.stringify(draft) === JSON.stringify(open(start)) ? null : { draft, version: begun })
    })
    return () => typed.unsubscribe()
  }, [])
  const forget = () => {
    keep(null)
    setAt(null)
  }
  return {
    keptAt: at,
    begun: begun ?? undefined,
    forget,
    again: () => {
      forget()
      reset(start)
    },
  }
}

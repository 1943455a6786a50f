import { useState } from 'react'
import { tellFailure } from './problems'
import { useWork } from './useWork'

/** Runs what a small form asks for, once at a time: what is refused of a field stands beside it, everything else is told. */
export function useFields() {
  const [fields, setFields] = useState<Record<string, string>>({})
  const { busy, run } = useWork((failure, thrown) => {
    if (failure.fields && Object.keys(failure.fields).length > 0) setFields(failure.fields)
    else tellFailure(thrown)
    return true
  })
  return {
    fields,
    setFields,
    busy,
    run: (work: () => Promise<void>) => {
      setFields({})
      return run(work)
    },
    /** What was said of a field goes when it is typed in. */
    typed: (field: string) => setFields(({ [field]: _, ...rest }) => rest),
  }
}

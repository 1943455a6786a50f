import { useState } from 'react'
import { failureIn } from '../app/api'
import { tellFailure } from './problems'

/** Runs what a small form asks for, once at a time: what is refused of a field stands beside it, everything else is told. */
export function useFields() {
  const [fields, setFields] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState(false)
  const run = async (work: () => Promise<void>): Promise<void> => {
    setBusy(true)
    setFields({})
    try {
      await work()
    } catch (e) {
      const refused = failureIn(e).fields
      if (refused && Object.keys(refused).length > 0) setFields(refused)
      else tellFailure(e)
    } finally {
      setBusy(false)
    }
  }
  /** What was said of a field goes when it is typed in. */
  const typed = (field: string) => setFields(({ [field]: _, ...rest }) => rest)
  return { fields, setFields, busy, run, typed }
}

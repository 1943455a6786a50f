import { useEffect, useState } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import type { Problem } from '~/ui/Notes'
import { failureIn } from '../app/api'
import { showFields } from './SettingsForm'

/** Runs a save once at a time: refused fields go beside their inputs, everything else is a problem to show. */
export function useSaving(form?: UseFormReturn<FieldValues>) {
  const [saving, setSaving] = useState(false)
  const [problem, setProblem] = useState<Problem | null>(null)
  // What was refused goes when something else is typed.
  useEffect(() => {
    const typed = form?.watch(() => setProblem(null))
    return () => typed?.unsubscribe()
  }, [form])
  const save = async (work: () => Promise<void>): Promise<void> => {
    setSaving(true)
    setProblem(null)
    try {
      await work()
    } catch (e) {
      const failure = failureIn(e)
      if (!form || !showFields(form, failure.fields)) setProblem(failure)
    } finally {
      setSaving(false)
    }
  }
  return { saving, problem, save }
}

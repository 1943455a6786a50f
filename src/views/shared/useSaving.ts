import { useEffect } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import { showFields } from './SettingsForm'
import { useWork } from './useWork'

/** Runs a save of a form once at a time: refused fields go beside their inputs, everything else is a problem to show. */
export function useSaving(form: UseFormReturn<FieldValues>) {
  const { busy, problem, setProblem, run } = useWork((failure) => showFields(form, failure.fields))
  // What was refused goes when something else is typed.
  useEffect(() => {
    const typed = form.watch(() => setProblem(null))
    return () => typed.unsubscribe()
  }, [form, setProblem])
  return { saving: busy, problem, save: run }
}

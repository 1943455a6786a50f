import { Fragment, type ReactNode } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import type { z } from 'zod'
import { typedNumber } from '~/core/value/typed-number'
import { AreaField, CheckField, SelectField, TextField } from '~/ui/Field'
import { Heading } from '~/ui/Notes'

interface Meta {
  label?: string
  help?: string
  unit?: string
  group?: string
  /** Several lines. */
  area?: boolean
  /** What choices are called, by their value. */
  options?: Record<string, string>
}

interface Props {
  schema: z.ZodObject
  /** Where in the form's values the settings lie. */
  path: string
  form: UseFormReturn<FieldValues>
  /** For fields that hold an id: what can be chosen. */
  options?: Record<string, { value: string; label: string }[]>
  hide?(field: string): boolean
  /** What stands after a field. */
  after?: Record<string, ReactNode>
}

function errorAt(errors: unknown, path: string): string | undefined {
  let at: unknown = errors
  for (const part of path.split('.')) at = (at as Record<string, unknown> | undefined)?.[part]
  return (at as { message?: string } | undefined)?.message
}

function inner(type: z.ZodType): z.ZodType {
  const def = type.def as { type: string; innerType?: z.ZodType }
  return (def.type === 'optional' || def.type === 'default' || def.type === 'nullable') && def.innerType ? inner(def.innerType) : type
}

/** Draws a form from a settings schema: labels, help, units and groups stand in its metadata. */
export function SettingsForm({ schema, path, form, options = {}, hide, after = {} }: Props) {
  const { register, formState, watch, setValue } = form
  let group: string | undefined
  return Object.entries(schema.shape).map(([key, type]) => {
    const meta = ((type as z.ZodType).meta() ?? {}) as Meta
    if (!meta.label || hide?.(key)) return null
    const heading = meta.group !== group && <Heading>{meta.group}</Heading>
    group = meta.group
    const name = `${path}.${key}`
    const around = { label: meta.label, help: meta.help, unit: meta.unit, error: errorAt(formState.errors, name) }
    const core = inner(type as z.ZodType)
    const kind = (core.def as { type: string }).type
    const choices =
      options[key] ??
      (kind === 'enum' ? (core as unknown as { options: string[] }).options.map((o) => ({ value: o, label: meta.options?.[o] ?? o })) : null)
    let field: ReactNode
    if (choices) {
      const chosen = (watch(name) as string | null) ?? ''
      field = (
        <SelectField {...around} value={chosen} onChange={(e) => setValue(name, e.target.value || null, { shouldValidate: true, shouldDirty: true })}>
          {options[key] && <option value="">none</option>}
          {/* What is stored is not "none" while the list is on its way, or for who may not see it. */}
          {chosen !== '' && !choices.some((c) => c.value === chosen) && <option value={chosen}>as it is stored</option>}
          {choices.map((c) => (
            <option key={c.value} value={c.value}>
              {c.label}
            </option>
          ))}
        </SelectField>
      )
    } else if (kind === 'boolean') field = <CheckField {...around} {...register(name)} />
    else if (kind === 'number')
      field = (
        <TextField
          {...around}
          inputMode="decimal"
          mono
          {...register(name, { setValueAs: (v) => (v === '' || v === null ? undefined : (typedNumber(String(v)) ?? Number.NaN)) })}
        />
      )
    else if (meta.area) field = <AreaField {...around} rows={4} {...register(name)} />
    else field = <TextField {...around} mono {...register(name)} />
    return (
      <Fragment key={key}>
        {heading}
        {field}
        {after[key]}
      </Fragment>
    )
  })
}

/** Puts the server's refusals beside their fields; says whether there were any. */
export function showFields(form: UseFormReturn<FieldValues>, fields: Record<string, string> | undefined): boolean {
  const all = Object.entries(fields ?? {})
  for (const [name, message] of all) form.setError(name, { message })
  return all.length > 0
}

import { Fragment, type ReactNode } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import type { z } from 'zod'
import { typedNumber } from '~/core/value/typed-number'
import { AreaField, CheckField, SelectField, TextField } from '~/ui/Field'
import { Heading } from '~/ui/Notes'
import { FoldedGroup } from './FoldedGroup'

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
  /** Groups that few need: they show their name only, as long as all in them is as usual. */
  folded?: readonly string[]
  /** What is wrong by field, where whoever asks finds it out. */
  errors?: Readonly<Record<string, string>>
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

/** What a field holds unless somebody says otherwise; undefined: it has nothing of its own. */
function usual(type: z.ZodType): unknown {
  const def = type.def as { type: string; defaultValue?: unknown }
  return def.type === 'default' ? def.defaultValue : undefined
}

interface Drawn {
  key: string
  group: string | undefined
  unusual: boolean
  wrong: boolean
  field: ReactNode
}

/** Draws a form from a settings schema: labels, help, units and groups stand in its metadata. */
export function SettingsForm({ schema, path, form, options = {}, hide, after = {}, folded = [], errors = {} }: Props) {
  const { watch, formState } = form
  const drawn = Object.entries(schema.shape).flatMap(([key, type]): Drawn[] => {
    const meta = ((type as z.ZodType).meta() ?? {}) as Meta
    if (!meta.label || hide?.(key)) return []
    const name = `${path}.${key}`
    const error = errors[key] ?? errorAt(formState.errors, name)
    const unusual = folded.includes(meta.group ?? '') && (watch(name) ?? usual(type as z.ZodType)) !== usual(type as z.ZodType)
    const field = (
      <Fragment key={key}>
        <SettingsField type={type as z.ZodType} meta={meta} label={meta.label} name={name} error={error} form={form} options={options[key]} />
        {after[key]}
      </Fragment>
    )
    return [{ key, group: meta.group, unusual, wrong: error !== undefined, field }]
  })
  const groups: Drawn[][] = []
  for (const one of drawn) {
    const last = groups.at(-1)
    if (last && last[0]!.group === one.group) last.push(one)
    else groups.push([one])
  }
  return groups.map((all) => {
    const { key, group = '' } = all[0]!
    const fields = all.map((one) => one.field)
    if (folded.includes(group))
      return (
        <FoldedGroup key={group} name={group} unusual={all.some((one) => one.unusual)} wrong={all.some((one) => one.wrong)}>
          {fields}
        </FoldedGroup>
      )
    return (
      <Fragment key={key}>
        <Heading>{group}</Heading>
        {fields}
      </Fragment>
    )
  })
}

interface FieldProps {
  type: z.ZodType
  meta: Meta
  label: string
  name: string
  error: string | undefined
  form: UseFormReturn<FieldValues>
  options: { value: string; label: string }[] | undefined
}

/** One field, drawn by what it holds. */
function SettingsField({ type, meta, label, name, error, form, options }: FieldProps) {
  const { register, watch, setValue } = form
  const around = { label, help: meta.help, unit: meta.unit, error }
  const core = inner(type)
  const kind = (core.def as { type: string }).type
  const choices =
    options ?? (kind === 'enum' ? (core as unknown as { options: string[] }).options.map((o) => ({ value: o, label: meta.options?.[o] ?? o })) : null)
  if (choices) {
    const chosen = (watch(name) as string | null) ?? ''
    return (
      <SelectField {...around} value={chosen} onChange={(e) => setValue(name, e.target.value || null, { shouldValidate: true, shouldDirty: true })}>
        {options && <option value="">none</option>}
        {/* What is stored is not "none" while the list is on its way, or for who may not see it. */}
        {chosen !== '' && !choices.some((c) => c.value === chosen) && <option value={chosen}>as it is stored</option>}
        {choices.map((c) => (
          <option key={c.value} value={c.value}>
            {c.label}
          </option>
        ))}
      </SelectField>
    )
  }
  if (kind === 'boolean') return <CheckField {...around} {...register(name)} />
  if (kind === 'number')
    return (
      <TextField
        {...around}
        inputMode="decimal"
        mono
        {...register(name, { setValueAs: (v) => (v === '' || v === null ? undefined : (typedNumber(String(v)) ?? Number.NaN)) })}
      />
    )
  if (meta.area) return <AreaField {...around} rows={4} {...register(name)} />
  return <TextField {...around} mono {...register(name)} />
}

/** Puts the server's refusals beside their fields; says whether there were any. */
export function showFields(form: UseFormReturn<FieldValues>, fields: Record<string, string> | undefined): boolean {
  const all = Object.entries(fields ?? {})
  for (const [name, message] of all) form.setError(name, { message })
  return all.length > 0
}

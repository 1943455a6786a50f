import { Fragment, type ReactNode } from 'react'
import type { z } from 'zod'
import type { PlanEquipment } from '~/contract/publication'
import { type ShapeInput, type ShapeKind, ShapeSettings } from '~/contract/shape'
import { topicLevel } from '~/core/address/template'
import { begun, shapeKinds, shapes } from '~/core/shape/registry'
import { placeholdersOf, templateFaults } from '~/core/shape/template'
import { typedNumber } from '~/core/value/typed-number'
import { CheckField, Field, SelectField, TextField } from '~/ui/Field'
import { Heading } from '~/ui/Notes'
import { TemplateEditor } from './TemplateEditor'
import type { AsSentHere } from './useAsSent'

interface Meta {
  label?: string
  help?: string
  unit?: string
  group?: string
  options?: Record<string, string>
}

/** What the settings of each kind are, by name. */
const fieldsOf = new Map(
  ShapeSettings.options.map((o) => {
    const shape = o.shape as Record<string, z.ZodType>
    return [(shape.kind as unknown as { value: ShapeKind }).value, Object.entries(shape).filter(([name]) => name !== 'kind')]
  }),
)

function inner(type: z.ZodType): z.ZodType {
  const def = type.def as { type: string; innerType?: z.ZodType }
  return (def.type === 'optional' || def.type === 'default' || def.type === 'nullable') && def.innerType ? inner(def.innerType) : type
}

/** Settings that mean nothing with what else is chosen. */
function idle(name: string, s: Record<string, unknown>): boolean {
  if (name === 'fullEvery') return s.members === 'all'
  if (name === 'zone') return s.time !== 'local'
  if (name === 'apart') return s.rows === 'wide'
  if (name === 'subject') return s.framing !== 'registry'
  return false
}

/** A template to begin with, to be cut down and renamed: the members that all chosen equipment have, since it is filled in for each. */
const bodyOf = (one: PlanEquipment, common: ReadonlySet<string> | null) =>
  `{\n  "equipment": "\${equipment}",\n  "at": \${at}${one.members
    .filter((m) => common === null || common.has(m.key))
    .slice(0, 30)
    .map((m) => `,\n  ${JSON.stringify(m.key)}: \${${m.key}}`)
    .join('')}\n}`

/** The settings of a shape when another is chosen: what both have in common stays. */
export function turnedInto(
  kind: ShapeKind,
  from: ShapeSettings,
  example: PlanEquipment | null,
  common: ReadonlySet<string> | null = null,
): ShapeSettings {
  const names = new Set(fieldsOf.get(kind)?.map(([name]) => name))
  // Each has frames of its own, and only that of a registry is one to all.
  const carried = ([name, value]: [string, unknown]) => names.has(name) && (name !== 'framing' || value === 'registry')
  const kept = Object.fromEntries(Object.entries(from).filter(carried))
  const named = !example
    ? {}
    : kind === 'sparkplug-b'
      ? { group: topicLevel(example.path[0] ?? '') || 'plant' }
      : kind === 'template'
        ? { body: bodyOf(example, common) }
        : {}
  const parsed = ShapeSettings.safeParse({ ...begun[kind], ...named, ...kept, kind })
  return parsed.success ? parsed.data : ShapeSettings.parse({ ...begun[kind], kind } as ShapeInput)
}

/** Chooses a payload format and its settings. `asSent` is what placeholders may name. */
export function ShapeForm({
  value,
  onChange,
  errors,
  asSent: { example, common, waiting },
  after,
}: {
  value: ShapeSettings
  onChange(next: ShapeSettings): void
  errors: Record<string, string>
  asSent: AsSentHere
  after?: ReactNode
}) {
  const settings = value as Record<string, unknown>
  const set = (name: string, v: unknown) => onChange({ ...settings, [name]: v } as ShapeSettings)
  let group: string | undefined
  return (
    <div className="grid gap-x-6 xl:grid-cols-2">
      <div className="xl:col-span-2">
        <SelectField
          label="Format"
          value={value.kind}
          disabled={waiting}
          onChange={(e) => onChange(turnedInto(e.target.value as ShapeKind, value, example, common))}
        >
          {shapeKinds.map((k) => (
            <option key={k} value={k}>
              {shapes[k].label} ({shapes[k].standard})
            </option>
          ))}
        </SelectField>
      </div>
      {(fieldsOf.get(value.kind) ?? []).map(([name, type]) => {
        const meta = (type.meta() ?? {}) as Meta
        if (!meta.label || idle(name, settings)) return null
        const heading = meta.group !== group && (
          <div className="xl:col-span-2">
            <Heading>{meta.group}</Heading>
          </div>
        )
        group = meta.group
        const around = { label: meta.label, help: meta.help, unit: meta.unit, error: errors[`shape.${name}`] }
        const kind = (inner(type).def as { type: string }).type
        return (
          <Fragment key={name}>
            {heading}
            {name === 'body' ? (
              <div className="xl:col-span-2">
                <Field label="Message" error={around.error} help="Type ${ to see what can be filled in, and | after a name for filters">
                  {() => (
                    <TemplateEditor
                      label="Message"
                      opening="${"
                      value={String(settings.body ?? '')}
                      onChange={(text) => set('body', text)}
                      offer={value.kind === 'template' ? placeholdersOf(example ?? undefined, value.per) : []}
                      check={(body) => (value.kind === 'template' && example ? templateFaults({ ...value, body }, shown(example, value.per)) : [])}
                    />
                  )}
                </Field>
              </div>
            ) : meta.options ? (
              <SelectField {...around} value={String(settings[name])} onChange={(e) => set(name, e.target.value)}>
                {Object.entries(meta.options).map(([v, label]) => (
                  <option key={v} value={v}>
                    {label}
                  </option>
                ))}
              </SelectField>
            ) : kind === 'boolean' ? (
              <CheckField {...around} checked={settings[name] === true} onChange={(e) => set(name, e.target.checked)} />
            ) : kind === 'number' ? (
              <TextField
                {...around}
                mono
                inputMode="numeric"
                value={settings[name] === null || settings[name] === undefined ? '' : String(settings[name])}
                onChange={(e) => {
                  const text = e.target.value.trim()
                  set(name, text === '' ? null : (typedNumber(text) ?? text))
                }}
              />
            ) : (
              <TextField {...around} mono value={String(settings[name] ?? '')} onChange={(e) => set(name, e.target.value)} />
            )}
          </Fragment>
        )
      })}
      {after && <div className="xl:col-span-2">{after}</div>}
    </div>
  )
}

/** Of a message about one member, the equipment has only that. */
const shown = (one: PlanEquipment, per: 'equipment' | 'member'): PlanEquipment =>
  per === 'member' ? { ...one, members: one.members.slice(0, 1) } : one

import type { ReactNode } from 'react'
import type { PlanMember } from '~/contract/publication'
import { conditionName } from '~/core/publication/condition'
import { ExpressionEditor } from '../../equipment/bind/ExpressionEditor'

export type Members = readonly PlanMember[]

/** A step with something that it need not have: empty, it has it not. */
export function optional<S extends object, K extends keyof S>(step: S, key: K, value: S[K] | '' | undefined): S {
  const { [key]: _, ...rest } = step
  return (value === undefined || value === '' ? rest : { ...rest, [key]: value }) as S
}

/** A line of a step: what is typed with what stands before it. */
export function Line({ label, error, children }: { label: string; error?: string | undefined; children: ReactNode }) {
  return (
    <div className="grid grid-cols-[86px_minmax(0,1fr)] items-start gap-x-2 py-0.5">
      <span className="pt-1 text-muted">{label}</span>
      <div className="min-w-0">
        {children}
        {error && (
          <p role="alert" className="text-xs text-bad">
            {error}
          </p>
        )}
      </div>
    </div>
  )
}

/** Names of members, and the lists and groups over them. */
export function namesOver(members: Members): string[] {
  const names = new Set<string>()
  for (const { key } of members) {
    const parts = key.split('.')
    for (let i = 1; i <= parts.length; i++) names.add(parts.slice(0, i).join('.'))
  }
  return [...names]
}

/** One member by its key; those that there are here are offered. */
export function MemberInput({
  label,
  value,
  members,
  fresh = false,
  onChange,
}: {
  label: string
  value: string
  members: readonly string[]
  /** It may be a new one. */
  fresh?: boolean
  onChange(key: string): void
}) {
  const id = `members of ${label}`.replaceAll(' ', '-').toLowerCase()
  const unknown = value !== '' && !fresh && !members.includes(value)
  return (
    <>
      <input
        aria-label={label}
        aria-invalid={unknown}
        className={`field w-56 font-mono ${unknown ? 'border-uncertain' : ''}`}
        value={value}
        list={id}
        spellCheck={false}
        autoComplete="off"
        onChange={(e) => onChange(e.target.value)}
      />
      <datalist id={id}>
        {members.map((m) => (
          <option key={m} value={m} />
        ))}
      </datalist>
    </>
  )
}

/** Several members: each has its box; what a list or a group holds goes with it. */
export function MembersInput({
  label,
  value,
  members,
  onChange,
}: {
  label: string
  value: readonly string[]
  members: readonly string[]
  onChange(keys: string[]): void
}) {
  const all = [...new Set([...members, ...value])]
  const within = (key: string) => value.some((v) => v !== key && key.startsWith(`${v}.`))
  return (
    <fieldset aria-label={label} className="flex max-h-40 flex-wrap gap-x-4 gap-y-0.5 overflow-y-auto rounded-sm border border-line px-2 py-1">
      {all.map((key) => (
        <label key={key} className={`flex items-center gap-1.5 font-mono text-[12.5px] ${members.includes(key) ? '' : 'text-uncertain'}`}>
          <input
            type="checkbox"
            className="accent-(--clay)"
            checked={value.includes(key) || within(key)}
            disabled={within(key)}
            onChange={(e) => onChange(e.target.checked ? [...value, key] : value.filter((v) => v !== key))}
          />
          {key}
        </label>
      ))}
      {all.length === 0 && <span className="text-muted">Choose equipment first</span>}
    </fieldset>
  )
}

/** An expression over the members as they are here. */
export function Expression({ label, value, members, onChange }: { label: string; value: string; members: Members; onChange(text: string): void }) {
  const variables = members.map(({ key, dataType, label: words, unit }) => ({
    name: conditionName(key),
    dataType,
    detail: unit ? `${words}, ${unit}` : words,
  }))
  return (
    <div className="min-w-0">
      <ExpressionEditor label={label} value={value} variables={variables} offer={() => []} onUse={() => undefined} onChange={onChange} />
    </div>
  )
}

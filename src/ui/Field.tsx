import type { InputHTMLAttributes, ReactNode, SelectHTMLAttributes, TextareaHTMLAttributes } from 'react'
import { useId } from 'react'

const box = 'w-full rounded-sm border bg-sheet px-2 placeholder:text-muted/70 disabled:opacity-60'

interface Around {
  label: string
  help?: ReactNode | undefined
  error?: string | undefined
  unit?: string | undefined
  wide?: boolean | undefined
}

/** A labelled control with its help, and what is wrong with it right beside it. */
export function Field({
  label,
  help,
  error,
  unit,
  children,
}: Around & { children: (props: { id: string; 'aria-invalid': boolean; 'aria-describedby': string }) => ReactNode }) {
  const id = useId()
  return (
    <div className="grid grid-cols-[130px_1fr] items-start gap-x-3 py-1">
      <label htmlFor={id} className="pt-[3px] text-muted">
        {label}
      </label>
      <div>
        <div className="flex items-center gap-2">
          {children({ id, 'aria-invalid': error !== undefined, 'aria-describedby': `${id}-note` })}
          {unit && <span className="text-muted">{unit}</span>}
        </div>
        <div id={`${id}-note`} className={`text-xs ${error ? 'text-bad' : 'text-muted'}`} role={error ? 'alert' : undefined}>
          {error ?? help}
        </div>
      </div>
    </div>
  )
}

export function TextField({
  label,
  help,
  error,
  unit,
  mono,
  className = '',
  ...rest
}: Around & { mono?: boolean } & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <Field label={label} help={help} error={error} unit={unit}>
      {(p) => (
        <input
          {...p}
          autoComplete="off"
          spellCheck={false}
          {...rest}
          className={`${box} h-[27px] ${error ? 'border-bad' : 'border-line'} ${mono ? 'font-mono text-[12.5px]' : ''} ${unit ? 'max-w-32' : ''} ${className}`}
        />
      )}
    </Field>
  )
}

/** A password: of one's own that is asked for (`own`), or a new one. */
export function PasswordField({ own = false, ...rest }: { own?: boolean } & Parameters<typeof TextField>[0]) {
  return <TextField {...rest} type="password" autoComplete={own ? 'current-password' : 'new-password'} />
}

export function AreaField({ label, help, error, className = '', ...rest }: Around & TextareaHTMLAttributes<HTMLTextAreaElement>) {
  return (
    <Field label={label} help={help} error={error}>
      {(p) => (
        <textarea
          {...p}
          spellCheck={false}
          {...rest}
          className={`${box} py-1 font-mono text-xs ${error ? 'border-bad' : 'border-line'} ${className}`}
        />
      )}
    </Field>
  )
}

export function SelectField({ label, help, error, children, ...rest }: Around & SelectHTMLAttributes<HTMLSelectElement>) {
  return (
    <Field label={label} help={help} error={error}>
      {(p) => (
        <select {...p} {...rest} className={`${box} h-[27px] ${error ? 'border-bad' : 'border-line'}`}>
          {children}
        </select>
      )}
    </Field>
  )
}

export function CheckField({ label, help, error, ...rest }: Around & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <Field label={label} help={help} error={error}>
      {(p) => <input type="checkbox" {...p} {...rest} className="mt-1.5 size-[15px] accent-(--clay)" />}
    </Field>
  )
}

/** A few choices side by side. */
export function Choice<T extends string>({
  label,
  value,
  options,
  onChange,
}: {
  label: string
  value: T
  options: readonly { value: NoInfer<T>; label: string }[]
  onChange(v: NoInfer<T>): void
}) {
  return (
    <fieldset className="inline-flex flex-wrap gap-1" aria-label={label}>
      {options.map((o) => (
        <button
          key={o.value}
          type="button"
          aria-pressed={o.value === value}
          onClick={() => onChange(o.value)}
          className={`h-6 rounded-sm border px-2.5 text-xs whitespace-nowrap ${o.value === value ? 'border-slate bg-wash text-slate font-semibold' : 'border-line bg-sheet hover:border-muted'}`}
        >
          {o.label}
        </button>
      ))}
    </fieldset>
  )
}

export function FilterBox({
  value,
  onChange,
  placeholder,
  width = 'w-56',
}: {
  value: string
  onChange(v: string): void
  placeholder: string
  width?: string
}) {
  return (
    <input
      type="search"
      data-filter
      aria-label={placeholder}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      onKeyDown={(e) => {
        if (e.key === 'Escape') {
          onChange('')
          e.currentTarget.blur()
        }
      }}
      placeholder={`/ ${placeholder}`}
      className={`h-[24px] rounded-sm border border-line bg-sheet px-2 text-sm placeholder:text-muted/80 ${width}`}
    />
  )
}

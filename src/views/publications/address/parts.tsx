import { Plus, X } from 'lucide-react'
import { type ReactNode, useState } from 'react'
import type { HeaderTemplate, TopicRule } from '~/contract/addresses/text'
import type { TemplateProblem } from '~/core/address/template'
import { placeholders, textProblems, topicRules } from '~/core/address/topic-template'
import { Button } from '~/ui/Button'
import { Field, SelectField, TextField } from '~/ui/Field'
import { Heading } from '~/ui/Notes'
import { type Offered, TemplateEditor } from '../TemplateEditor'
import { placeholderHelp } from './help'

interface TextProps {
  label: string
  value: string
  onChange(text: string): void
  offer: Offered[]
  check?: (text: string) => TemplateProblem[]
}

/** One line of a template. */
export function TemplateLine({ check = textProblems, ...props }: TextProps) {
  return <TemplateEditor oneLine opening="{" check={check} {...props} />
}

/** A template with its label, help and what is wrong. */
export function TemplateField({ help, error, ...props }: TextProps & { help?: string; error: string | undefined }) {
  return (
    <Field label={props.label} error={error} {...(help !== undefined && { help })}>
      {() => <TemplateLine {...props} />}
    </Field>
  )
}

/** So many members are at hand where levels of the plant mean nothing. */
const MEMBERS = 12

/** What is put into a place with one press: levels and names, and where there are none of the plant the members. */
function atHand(offer: readonly Offered[]): string[] {
  const names = offer.map((o) => o.name)
  const known = names.filter((name) => Object.hasOwn(placeholders, name))
  return known.includes('enterprise') ? known : [...known, ...names.filter((name) => name.startsWith('value.')).slice(0, MEMBERS)]
}

/** The place of an address with what can be put into it at hand, and how names become levels of it. */
export function PlaceField({
  separator,
  rule,
  onRule,
  error,
  ...props
}: TextProps & { separator: string; rule: TopicRule; onRule(rule: TopicRule): void; error: string | undefined }) {
  const { value, onChange } = props
  return (
    <>
      <TemplateField {...props} error={error} help="Type { to see what can be filled in, and | after a name for filters: {name|lower}" />
      <div className="flex flex-wrap gap-1 pb-2 pl-[142px]">
        {atHand(props.offer).map((p) => (
          <Button
            key={p}
            small
            title={placeholderHelp[p]}
            onClick={() => onChange(`${value}${value.endsWith(separator) || value === '' ? '' : separator}{${p}}`)}
          >
            <code className="font-mono">{`{${p}}`}</code>
          </Button>
        ))}
      </div>
      <SelectField label="Names in it" value={rule} onChange={(e) => onRule(e.target.value as TopicRule)}>
        {Object.entries(topicRules).map(([r, words]) => (
          <option key={r} value={r}>
            {words}
          </option>
        ))}
      </SelectField>
    </>
  )
}

/** Headers, each with a name and a template of its value. */
function HeaderFields({
  headers,
  onChange,
  offer,
  errors,
}: {
  headers: readonly HeaderTemplate[]
  onChange(headers: HeaderTemplate[]): void
  offer: Offered[]
  errors: Readonly<Record<string, string>>
}) {
  const put = (i: number, change: Partial<HeaderTemplate>) => onChange(headers.map((h, n) => (n === i ? { ...h, ...change } : h)))
  return (
    <>
      {headers.map((h, i) => {
        const wrong = errors[`headers.${i}.name`]
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: headers have no other name while they are typed
          <div key={i} className="grid grid-cols-[130px_1fr] items-start gap-x-3 py-1">
            <input
              aria-label={`Name of header ${i + 1}`}
              value={h.name}
              placeholder="name"
              onChange={(e) => put(i, { name: e.target.value })}
              className={`h-[27px] rounded-sm border bg-sheet px-2 font-mono text-[12.5px] ${wrong ? 'border-bad' : 'border-line'}`}
            />
            <div className="flex items-start gap-2">
              <TemplateLine label={`Value of header ${i + 1}`} value={h.value} onChange={(value) => put(i, { value })} offer={offer} />
              <Button small aria-label={`Remove header ${i + 1}`} onClick={() => onChange(headers.filter((_, n) => n !== i))}>
                <X size={13} />
              </Button>
            </div>
            {wrong && <div className="col-span-2 text-xs text-bad">{wrong}</div>}
          </div>
        )
      })}
      <div className="flex flex-wrap items-center gap-3 py-1 pl-[142px]">
        <Button small onClick={() => onChange([...headers, { name: '', value: '' }])}>
          <Plus size={13} /> Header
        </Button>
      </div>
    </>
  )
}

/** What travels beside the payload: the content type, what a kind has of its own, and headers; folded until somebody wants it. */
export function Beside({
  address: { contentType, headers },
  set,
  errors,
  offer,
  payloadType,
  open,
  what,
  children,
}: {
  address: { contentType: string; headers: readonly HeaderTemplate[] }
  set(change: { contentType: string } | { headers: HeaderTemplate[] }): void
  errors: Readonly<Record<string, string>>
  offer: Offered[]
  /** Of the payload, where none is chosen. */
  payloadType: string
  open: boolean
  /** What can be set here, in words. */
  what: string
  children?: ReactNode
}) {
  const [shown, setShown] = useState(open || headers.length > 0 || contentType !== '')
  if (!shown) return <More onOpen={() => setShown(true)}>{what}</More>
  return (
    <>
      <Heading>Beside the payload</Heading>
      <TextField
        label="Content type"
        mono
        value={contentType}
        onChange={(e) => set({ contentType: e.target.value })}
        placeholder={payloadType}
        error={errors.contentType}
      />
      {children}
      <HeaderFields headers={headers} onChange={(h) => set({ headers: h })} offer={offer} errors={errors} />
    </>
  )
}

/** A button in the place of fields that few need. */
function More({ onOpen, children }: { onOpen(): void; children: ReactNode }) {
  return (
    <div className="py-1 pl-[142px]">
      <Button small onClick={onOpen}>
        <Plus size={13} /> {children}
      </Button>
    </div>
  )
}

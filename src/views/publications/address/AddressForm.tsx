import type { Address } from '~/contract/address'
import type { PlanEquipment, Preview, PublicationDraft } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { placeholders } from '~/core/address/topic-template'
import { shapes } from '~/core/shape/registry'
import { Heading } from '~/ui/Notes'
import { countText } from '~/ui/time'
import type { Offered } from '../TemplateEditor'
import { TopicTree } from '../TopicTree'
import type { AddressFieldsProps } from './fields-props'
import { placeholderHelp } from './help'
import { fieldsOf } from './kinds'

/** What placeholders of an address may name, for the equipment at hand. */
function offered(example: PlanEquipment | null, rows: boolean): Offered[] {
  return [
    ...Object.keys(placeholders)
      // Levels of the plant mean nothing for a row.
      .filter((name) => !rows || name === 'name')
      .map((name) => ({ name, help: placeholderHelp[name] ?? '' })),
    ...Object.entries(example?.facts ?? {}).map(([f, v]) => ({ name: `fact.${f}`, help: String(v) })),
    ...(example?.members ?? []).map((m) => ({ name: `value.${m.key}`, help: `value of ${m.label || m.key}, at the moment` })),
    ...['year', 'month', 'day', 'hour', 'minute'].map((t) => ({ name: `time.${t}`, help: 'of the message, UTC' })),
  ]
}

/** The address of a publication, in the words of its destination's kind; with all places that come of it as a tree. */
export function AddressForm({
  draft,
  set,
  fields,
  preview,
  example,
}: {
  draft: PublicationDraft
  set(change: Partial<PublicationDraft>): void
  fields: Record<string, string>
  preview: Preview | null
  example: PlanEquipment | null
}) {
  const { address, shape } = draft
  const { texts, nouns, levels } = kindOf(address)
  const { place, key, headers } = texts(address)
  const Fields = fieldsOf(address.kind)
  const steered = [place, key, ...headers.map((h) => h.value)].some((t) => t.includes('{value.'))
  const props: AddressFieldsProps<Address['kind']> = {
    address,
    set: (change) => set({ address: { ...address, ...change } as Address }),
    errors: Object.fromEntries(Object.entries(fields).flatMap(([k, v]) => (k.startsWith('address.') ? [[k.slice(8), v]] : []))),
    offer: offered(example, draft.rows !== undefined),
    prescribed: shapes[shape.kind].fixed !== undefined,
    contentType: preview?.message?.contentType ?? shapes[shape.kind].contentType(shape as never),
    steers: steered && (
      <label className="flex items-center gap-2 py-1 pl-[142px]">
        <input type="checkbox" className="accent-(--clay)" checked={draft.steersOnly} onChange={(e) => set({ steersOnly: e.target.checked })} />
        leave members that steer the address out of the payload
      </label>
    ),
    open: draft.steersOnly,
  }
  return (
    <>
      <Fields key={address.kind} {...props} />
      {preview && preview.topicCount > 0 && (
        <>
          <Heading level={2}>
            {countText(preview.topicCount)} {nouns[preview.topicCount === 1 ? 0 : 1]}
          </Heading>
          <TopicTree nodes={preview.tree} separator={levels.separator} />
          {preview.converted.length > 0 && <Converted names={preview.converted} />}
        </>
      )}
    </>
  )
}

/** Names that read otherwise in a place than on the plant. */
function Converted({ names }: { names: Preview['converted'] }) {
  return (
    <details className="mt-1">
      <summary className="cursor-pointer text-muted">
        {countText(names.length)} {names.length === 1 ? 'name reads' : 'names read'} otherwise in it
      </summary>
      <ul className="mt-1 columns-2 font-mono text-[12px] leading-5" aria-label="Names that read otherwise">
        {names.map(([from, to]) => (
          <li key={from} className="truncate">
            {from} <span className="text-muted">&gt;</span> {to}
          </li>
        ))}
      </ul>
    </details>
  )
}

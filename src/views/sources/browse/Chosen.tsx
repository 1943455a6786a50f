import type { BrowseNode } from '~/contract/source'
import { type NamingRule, proposeName } from '~/core/source/naming'
import { displayValue } from '~/core/value/datatype'
import { qualityOf, qualityText } from '~/core/value/quality'
import { fromWire } from '~/core/value/wire'
import { Glyph } from '~/ui/Glyph'
import type { Watched } from './useWatched'

/** How many names stand in a list of what would be taken. */
export const SHOWN = 300

/** What will be added: the name that each gets, and its value at this moment. */
export function Chosen({
  nodes,
  rule,
  values,
  fields,
  onDrop,
}: {
  nodes: readonly BrowseNode[]
  rule: NamingRule
  values: ReadonlyMap<string, Watched>
  fields: Record<string, string> | undefined
  onDrop(n: BrowseNode): void
}) {
  return (
    <ul className="max-h-[46vh] overflow-auto rounded-sm border border-line" aria-label="Tags to be added">
      {nodes.slice(0, SHOWN).map((n, i) => {
        const wrong = fields?.[`tags.${i}.name`] ?? fields?.[`tags.${i}.address`]
        const v = values.get(n.address)
        return (
          <li key={n.address} className="group flex items-baseline gap-2 border-b border-line/60 px-2 py-[3px] last:border-0">
            <Glyph state={v ? qualityOf(v.status) : 'idle'} title={v ? qualityText(v.status) : 'no value yet'} />
            <span className="min-w-0 flex-1 break-words">
              {proposeName((n.path ?? n.name).split('/'), rule)}
              {wrong && <span className="block text-xs text-bad">{wrong}</span>}
            </span>
            <span className="max-w-28 truncate font-mono text-xs" title={v ? qualityText(v.status) : ''}>
              {v ? displayValue(fromWire(v.value), n.dataType === 'number') : '...'}
            </span>
            <span className="text-xs text-muted">{n.unit}</span>
            <button type="button" aria-label={`Leave out ${n.name}`} className="text-muted hover:text-bad" onClick={() => onDrop(n)}>
              ×
            </button>
          </li>
        )
      })}
    </ul>
  )
}

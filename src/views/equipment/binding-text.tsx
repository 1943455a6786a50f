import type { Leaf } from '~/core/equipment/resolve'
import { conversionText } from '~/core/value/convert'
import { MadeUp } from '../tags/Simulation'
import { inputText } from './bind/ExpressionForm'
import type { PlantModel } from './useModel'

/** What fills a member, in one line. */
export function BindingText({ leaf, model }: { leaf: Leaf; model: PlantModel }) {
  const b = leaf.binding
  if (!b) return <span className="text-muted">nothing: left out of payloads</span>
  switch (b.kind) {
    case 'tag': {
      const tag = model.tags.get(b.tagId)
      if (!tag) return <span className="text-bad">a tag that is gone</span>
      return (
        <a className="text-slate underline" href={`/tags?tag=${tag.id}`}>
          {tag.name} <MadeUp tag={tag} />
        </a>
      )
    }
    case 'constant':
      return <span className="font-mono text-[12.5px]">{String(b.value)}</span>
    case 'fact':
      return <span>fact {b.fact}</span>
    case 'record':
      return (
        <span>
          record <span className="font-mono text-[12.5px]">{[b.row, b.column].filter(Boolean).join(' / ')}</span>
        </span>
      )
    case 'expression':
      return (
        <span className="font-mono text-[12.5px]" title={b.expression.text}>
          <span className="font-sans text-muted">{leaf.byClass ? 'class: ' : '= '}</span>
          {b.expression.text.length > 60 ? `${b.expression.text.slice(0, 58)}…` : b.expression.text}
        </span>
      )
    case 'member':
      return <span>{inputText({ kind: 'member', equipmentId: b.equipmentId, path: b.path }, leaf.owner, model)}</span>
    case 'equipment':
      return <span>{model.equipment.get(b.equipmentId)?.name ?? 'equipment that is gone'}</span>
    case 'below':
      return <span>all below</span>
  }
}

/** `°F to °C: ÷ 1.8 − 17.8`; nothing when the units are the same. */
export function convertedText(leaf: Leaf): string {
  const { fill, convertedFrom, member } = leaf
  if (!convertedFrom || !fill || !('factor' in fill)) return ''
  return `${convertedFrom} to ${member.unit}: ${conversionText({ factor: Number(fill.factor.toPrecision(6)), offset: Number(fill.offset.toPrecision(6)) })}`
}

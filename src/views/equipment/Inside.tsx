import type { Equipment, EquipmentClass } from '~/contract/equipment'
import { Glyph } from '~/ui/Glyph'
import { countText } from '~/ui/time'
import type { PlantModel } from './useModel'

/** What stands under equipment that has no members of its own. */
export function Inside({
  one,
  model,
  qualities,
  onChoose,
}: {
  one: Equipment
  model: PlantModel
  qualities: ReadonlyMap<string, 'good' | 'uncertain' | 'bad'>
  onChoose(id: string): void
}) {
  const nodes = model.resolver.under(one.id)
  const className = (e: Equipment): EquipmentClass | undefined => (e.classId ? model.classes.get(e.classId) : undefined)
  if (nodes.length === 0) return <p className="text-muted">It has no class, so it sends nothing itself; and nothing stands under it yet.</p>
  return (
    <ul className="max-w-lg">
      {nodes.slice(0, 500).map((n) => {
        const quality = qualities.get(n.id)
        return (
          <li key={n.id} className="border-b border-line">
            <button type="button" className="flex w-full items-center gap-2 py-1.5 text-left hover:bg-well/60" onClick={() => onChoose(n.id)}>
              {quality ? <Glyph state={quality} /> : <span className="w-[14px]" />}
              <span className="font-semibold">{n.name}</span>
              <span className="ml-auto text-muted">{className(n)?.name ?? n.level}</span>
            </button>
          </li>
        )
      })}
      {nodes.length > 500 && <li className="py-1.5 text-muted">and {countText(nodes.length - 500)} more: the tree on the left has all</li>}
    </ul>
  )
}

import type { DragEndEvent, DragStartEvent } from '@dnd-kit/core'
import { type KeyboardEvent, useState } from 'react'
import { toast } from 'sonner'
import type { Equipment } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import { aLevel, branchOf, mayHangUnder } from '~/core/equipment/hierarchy'
import type { Leaf } from '~/core/equipment/resolve'
import { countText } from '~/ui/time'
import { useTextInAddress } from '../app/address'
import { equipmentEdits } from './edits'
import { bindMember } from './Members'
import type { PlantModel } from './useModel'

interface Does {
  mayEdit: boolean
  onEdit(one: Equipment): void
  /** Another one is looked at. */
  onGo(): void
}

/** Which is looked at where none was chosen. */
export const firstShown = (list: readonly Equipment[]): Equipment | undefined => list.find((e) => e.classId !== null) ?? list[0]

/** What hands do in the plant: choose, by Shift and Ctrl too, pick up and put down by pointer or keys, remove. */
export function usePlantHands(model: PlantModel, { mayEdit, onEdit, onGo }: Does) {
  const [selected, setSelected] = useState<ReadonlySet<string>>(() => {
    const id = new URLSearchParams(location.search).get('id')
    return new Set(id ? [id] : [])
  })
  const [cursor, setCursor] = useTextInAddress('id')
  const [cut, setCut] = useState<readonly string[]>([])
  const [dragged, setDragged] = useState<string | null>(null)
  const { list, equipment: byId } = model
  const chosen = (cursor ? byId.get(cursor) : undefined) ?? firstShown(list)
  const picked = [...selected].flatMap((id) => byId.get(id) ?? [])
  const go = (id: string) => {
    setCursor(id)
    setSelected(new Set([id]))
    onGo()
  }

  const select = (id: string, held: { shift: boolean; ctrl: boolean }, order: readonly string[]) => {
    if (held.shift && cursor) {
      const [a, b] = [order.indexOf(cursor), order.indexOf(id)]
      setSelected(new Set(order.slice(Math.min(a, b), Math.max(a, b) + 1)))
      return
    }
    if (held.ctrl) {
      const next = new Set(selected)
      if (!next.delete(id)) next.add(id)
      setSelected(next)
      setCursor(id)
      return
    }
    go(id)
  }

  const move = (ids: readonly string[], to: Equipment) => {
    const moved = ids.flatMap((id) => byId.get(id) ?? []).filter((e) => e.parentId !== to.id && e.id !== to.id)
    if (moved.length === 0) return
    const wrong = moved.find((e) => !mayHangUnder(e.level, to.level) || branchOf(list, e.id).has(to.id))
    if (wrong)
      return void toast.error(`${wrong.name}, ${aLevel(wrong.level)}, cannot stand under ${to.name}, ${aLevel(to.level)}`, {
        description: 'Change its level under Name and place first',
      })
    const label = moved.length === 1 ? `${moved[0]!.name} stands under ${to.name}` : `${moved.length} stand under ${to.name}`
    void equipmentEdits.tell({ change: moved.map((e) => ({ id: e.id, version: e.version, parentId: to.id })) }, label)
  }

  const drop = (e: DragEndEvent) => {
    setDragged(null)
    const from = e.active.data.current as { tag?: Tag; equipment?: Equipment } | undefined
    const onto = e.over?.data.current as { leaf?: Leaf; place?: Equipment } | undefined
    if (from?.tag && onto?.leaf) void bindMember(onto.leaf.owner, onto.leaf.path, onto.leaf.label, { kind: 'tag', tagId: from.tag.id })
    if (from?.equipment && onto?.place) move(selected.has(from.equipment.id) ? [...selected] : [from.equipment.id], onto.place)
  }
  const start = (e: DragStartEvent) => {
    // Keys that follow are for what is dragged, not for the text that was typed before.
    if (document.activeElement instanceof HTMLInputElement) document.activeElement.blur()
    const from = e.active.data.current as { tag?: Tag; equipment?: Equipment }
    const many = from.equipment && selected.has(from.equipment.id) && selected.size > 1 ? `${selected.size} equipment` : undefined
    setDragged(from.tag?.name ?? many ?? from.equipment?.name ?? null)
  }

  const key = (e: KeyboardEvent, id: string) => {
    if (!mayEdit) return
    const ctrl = e.ctrlKey || e.metaKey
    if (ctrl && e.key === 'x') {
      setCut(selected.size > 0 ? [...selected] : [id])
      toast(`${selected.size > 1 ? `${selected.size} equipment` : byId.get(id)?.name} picked up: go to its new place and press Ctrl+V`)
    } else if (ctrl && e.key === 'v' && cut.length > 0) {
      move(cut, byId.get(id)!)
      setCut([])
    } else if (e.key === 'F2') onEdit(byId.get(id)!)
    else if (e.key === 'Delete') void remove()
    else return
    e.preventDefault()
  }

  const remove = async () => {
    const going = picked.length > 0 ? picked : chosen ? [chosen] : []
    // With what stands under it, which the message then counts.
    const all = new Set(going.flatMap((e) => [...branchOf(list, e.id)]))
    const label = all.size === 1 ? `${going[0]!.name} removed` : `${countText(all.size)} equipment removed`
    const done = await equipmentEdits.tell({ remove: [...all].map((id) => ({ id, version: byId.get(id)!.version })) }, label)
    if (done) {
      setSelected(new Set())
      setCursor(null)
    }
  }
  return { selected, chosen, dragged, go, select, key, remove, start, drop, stop: () => setDragged(null) }
}

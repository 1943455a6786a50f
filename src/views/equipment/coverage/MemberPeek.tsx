import { useState } from 'react'
import type { Equipment } from '~/contract/equipment'
import { pathText } from '~/core/equipment/hierarchy'
import type { Leaf } from '~/core/equipment/resolve'
import { Button } from '~/ui/Button'
import { BindingEditor } from '../bind/BindingEditor'
import { BindingText } from '../binding-text'
import { EquipmentPeek } from '../EquipmentPeek'
import { bindMember } from '../Members'
import type { PlantModel } from '../useModel'

interface Props {
  one: Equipment
  leaf: Leaf
  model: PlantModel
  mayEdit: boolean
  /** The member as the payload names it. */
  path: string
}

/** One member of one piece of equipment: what fills it, mended where it stands, and the payload around it. */
export function MemberPeek({ one, leaf, model, mayEdit, path }: Props) {
  const [editing, setEditing] = useState(false)
  const bindable = leaf && leaf.owner.id === one.id && !leaf.member.classId && !(leaf.member.many && leaf.path === leaf.member.id)
  return (
    <>
      <h2 className="text-[15px] font-semibold">
        {one.name}: {leaf.label}
      </h2>
      <div className="mb-2 text-muted">{pathText(model.equipment, one.id)}</div>
      {leaf.problem && <div className={leaf.fill ? 'text-uncertain' : 'text-bad'}>{leaf.problem.message}</div>}
      <div className="my-1.5">
        {editing && bindable ? (
          <BindingEditor
            key={`${one.id} ${leaf.path}`}
            equipment={one}
            leaf={leaf}
            model={model}
            onBind={(b) => void bindMember(one, leaf.path, leaf.label, b).then((done) => done && setEditing(false))}
            onClose={() => setEditing(false)}
          />
        ) : (
          <div className="flex items-start gap-2">
            <span className="min-w-0 flex-1">
              <BindingText leaf={leaf} model={model} />
            </span>
            {bindable && (
              <Button small disabled={!mayEdit} onClick={() => setEditing(true)} aria-label={`Mend ${leaf.label}`}>
                {leaf.binding && !leaf.byClass ? 'Change' : 'Bind'}
              </Button>
            )}
          </div>
        )}
      </div>
      <EquipmentPeek equipment={one} model={model} chosen={path} />
    </>
  )
}

import { type Equipment, type EquipmentClass, Level } from '~/contract/equipment'
import { byName, mayHangUnder, pathText } from '~/core/equipment/hierarchy'
import { SelectField } from '~/ui/Field'

/** Under what, on which level, and of which class. */
export function PlaceFields({
  list,
  byId,
  classes,
  parentId,
  level,
  classId,
  except,
  fields = {},
  onParent,
  onLevel,
  onClass,
}: {
  list: readonly Equipment[]
  byId: ReadonlyMap<string, Equipment>
  classes: readonly EquipmentClass[]
  parentId: string
  level: Level
  classId?: string
  except?: string | undefined
  fields?: Record<string, string>
  onParent(id: string): void
  onLevel(l: Level): void
  onClass?(id: string): void
}) {
  const parent = byId.get(parentId)
  // Under what nothing can stand need not be offered; many thousand are not for choosing from a list.
  const places = list.filter((e) => e.id !== except && e.level !== 'work unit').slice(0, 2000)
  return (
    <>
      <SelectField label="Stands under" value={parentId} onChange={(e) => onParent(e.target.value)} error={fields.parentId}>
        <option value="">nothing: the top</option>
        {parent && !places.includes(parent) && <option value={parent.id}>{pathText(byId, parent.id)}</option>}
        {places
          .map((e) => ({ id: e.id, path: pathText(byId, e.id) }))
          .sort((a, b) => byName(a.path, b.path))
          .map((e) => (
            <option key={e.id} value={e.id}>
              {e.path}
            </option>
          ))}
      </SelectField>
      <SelectField label="Level" value={level} onChange={(e) => onLevel(e.target.value as Level)} error={fields.level} help="Of the ISA-95 hierarchy">
        {Level.options.map((l) => (
          <option key={l} disabled={!mayHangUnder(l, parent?.level ?? null)}>
            {l}
          </option>
        ))}
      </SelectField>
      {onClass && (
        <SelectField
          label="Class"
          value={classId}
          onChange={(e) => onClass(e.target.value)}
          error={fields.classId}
          help="What it looks like; none for a place that only holds others"
        >
          <option value="">none</option>
          {[...classes]
            .sort((a, b) => byName(a.name, b.name))
            .map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
        </SelectField>
      )}
    </>
  )
}

import type { EquipmentBrief, EquipmentClass } from '~/contract/equipment'
import type { Finding, PlanEquipment, PublicationDraft } from '~/contract/publication'
import { SelectField } from '~/ui/Field'
import { Steps } from '../steps/Steps'
import type { PublicationEdit } from '../usePublicationDraft'

interface Props {
  edit: PublicationEdit
  equipment: ReadonlyMap<string, EquipmentBrief>
  classes: readonly EquipmentClass[]
  example: PlanEquipment | null
  findings: readonly Finding[]
  open: boolean
  onToggle(): void
  onMend(set: Record<string, unknown>): void
}

const NONE: NonNullable<PublicationDraft['steps']> = []

/** What only this clause does: of which class, under which condition, with which steps of its own. So messages branch. */
export function Only({ edit, equipment, classes, example, ...section }: Props) {
  const { draft, set, preview, fields } = edit
  const there = new Set(draft.equipmentIds.map((id) => equipment.get(id)?.classId))
  const only = classes.find((c) => c.id === draft.onlyClassId)
  return (
    <Steps
      title="Only"
      field="own"
      none={{
        summary: 'all of it, as it is',
        says: 'This clause says all that the publication says. A step here is for this clause alone: Keep if, and the other messages go to other clauses.',
      }}
      beside={draft.onlyClassId === undefined ? '' : `of class ${only?.name ?? 'that is no more'}`}
      before={draft.steps ?? NONE}
      steps={draft.own ?? NONE}
      onSteps={(steps) => set({ own: steps.length === 0 ? undefined : [...steps] })}
      example={example}
      preview={preview}
      fields={fields}
      held={edit.held !== null}
      onHold={(hold) => edit.setHeld(hold && preview ? preview.held : null)}
      {...section}
    >
      {draft.tags === undefined && draft.rows === undefined && (
        <SelectField label="Of class" value={draft.onlyClassId ?? ''} onChange={(e) => set({ onlyClassId: e.target.value || undefined })}>
          <option value="">any</option>
          {classes
            .filter((c) => there.has(c.id) || c.id === draft.onlyClassId || classes.some((x) => there.has(x.id) && x.extendsId === c.id))
            .map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
        </SelectField>
      )}
    </Steps>
  )
}

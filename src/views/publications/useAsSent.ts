import { useMemo } from 'react'
import type { PlanEquipment, PublicationDraft } from '~/contract/publication'
import { applySteps } from '~/core/publication/steps/apply'
import { useCall } from '../app/api'

export interface AsSentHere {
  /** The first of them as it is read. */
  source: PlanEquipment | null
  /** The same after all steps. */
  example: PlanEquipment | null
  /** Keys of the members that all of them have after that. */
  common: ReadonlySet<string>
  /** It is being asked for. */
  waiting: boolean
}

/** What shapes and addresses of these equipment can name; asked for when `wanted`. Null and none while it is not known. */
export function useAsSent(
  { equipmentIds, tags, rows, steps }: Pick<PublicationDraft, 'equipmentIds' | 'tags' | 'rows' | 'steps'>,
  wanted: boolean,
): AsSentHere {
  // Before a source and its columns are chosen there is nothing to ask for.
  const chosen = rows && rows.sourceId !== '' && rows.columns.length > 0 ? rows : null
  const answer = useCall('equipmentAsSent', {
    body: { ids: [...equipmentIds], ...(tags && { tags }), ...(chosen && { rows: chosen }) },
    enabled: wanted && (tags !== undefined || chosen !== null || (equipmentIds.length > 0 && !rows)),
    keepPrevious: true,
  })
  const source = answer.data?.example ?? null
  const common = answer.data?.common
  const after = useMemo(() => afterSteps(source, common ?? [], steps ?? []), [source, common, steps])
  return { source, ...after, waiting: answer.isLoading }
}

function afterSteps(source: PlanEquipment | null, common: readonly string[], steps: NonNullable<PublicationDraft['steps']>) {
  if (!source || steps.length === 0) return { example: source, common: new Set(common) }
  try {
    const members = applySteps(steps, [source]).equipment[0]?.members ?? source.members
    // What a step gave a name is there for all; what was not read of all of them is not.
    const read = new Set(source.members.map((m) => m.key))
    const all = new Set(common)
    return { example: { ...source, members }, common: new Set(members.map((m) => m.key).filter((key) => all.has(key) || !read.has(key))) }
  } catch {
    // Half typed.
    return { example: source, common: new Set(common) }
  }
}

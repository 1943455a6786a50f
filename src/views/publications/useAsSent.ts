import { useMemo } from 'react'
import type { PlanEquipment } from '~/contract/publication'
import { useCall } from '../app/api'

export interface AsSentHere {
  example: PlanEquipment | null
  /** Keys of the members that all of them have. */
  common: ReadonlySet<string>
  /** It is being asked for. */
  waiting: boolean
}

/** What shapes and addresses of these equipment can name; asked for when `wanted`. Null and none while it is not known. */
export function useAsSent(ids: readonly string[], wanted: boolean): AsSentHere {
  const answer = useCall('equipmentAsSent', { body: { ids: [...ids] }, enabled: wanted && ids.length > 0, keepPrevious: true })
  const common = useMemo(() => new Set(answer.data?.common ?? []), [answer.data])
  return { example: answer.data?.example ?? null, common, waiting: answer.isLoading }
}

import { AttributeIds, type ClientSession, VariableIds } from 'node-opcua-client'

/** What a server says it can take at once (OPC 10000-5 6.3.11); where it says nothing, what any server should. */
export interface Limits {
  nodesPerRead: number
  nodesPerBrowse: number
  itemsPerCall: number
  itemsPerSubscription: number
  items: number
}

const own: Limits = { nodesPerRead: 1000, nodesPerBrowse: 500, itemsPerCall: 1000, itemsPerSubscription: 20_000, items: Number.POSITIVE_INFINITY }

const places: Record<keyof Limits, number> = {
  nodesPerRead: VariableIds.Server_ServerCapabilities_OperationLimits_MaxNodesPerRead,
  nodesPerBrowse: VariableIds.Server_ServerCapabilities_OperationLimits_MaxNodesPerBrowse,
  itemsPerCall: VariableIds.Server_ServerCapabilities_OperationLimits_MaxMonitoredItemsPerCall,
  itemsPerSubscription: VariableIds.Server_ServerCapabilities_MaxMonitoredItemsPerSubscription,
  items: VariableIds.Server_ServerCapabilities_MaxMonitoredItems,
}

/** Reads the limits; 0 and a missing node both mean that the server names none. */
export async function readLimits(session: ClientSession): Promise<Limits> {
  const keys = Object.keys(places) as (keyof Limits)[]
  const limits = { ...own }
  const found = await session.read(keys.map((k) => ({ nodeId: `ns=0;i=${places[k]}`, attributeId: AttributeIds.Value })))
  found.forEach((v, i) => {
    const n = Number(v.statusCode.isGood() ? v.value.value : 0)
    if (n > 0) limits[keys[i]!] = Math.min(limits[keys[i]!], n)
  })
  return limits
}

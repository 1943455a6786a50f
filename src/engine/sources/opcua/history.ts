import { AggregateFunction, type ClientSession, type DataValue, HistoryData, type HistoryReadResult } from 'node-opcua-client'
import { fail } from '~/contract/failure'
import type { Scalar } from '~/core/value/deadband'
import { whole } from '~/core/value/whole'
import { leafOf, splitAddress } from './leaf'

/** Aggregates of OPC 10000-13 5.4.3 that are asked for by name. */
export const aggregates = ['Minimum', 'Maximum', 'Average', 'Interpolative', 'Count'] as const
export type Aggregate = (typeof aggregates)[number]

export interface HistorySample {
  at: number
  value: Scalar
  status: number
}

/**
 * Reads what a server has stored between two times (epoch ms): every sample, or one an interval by an aggregate. Raw samples come in
 * pages, newest last; `limit` bounds them.
 */
export async function readHistory(
  session: ClientSession,
  address: string,
  from: number,
  to: number,
  how: { aggregate: Aggregate; everyMs: number } | { limit: number },
): Promise<HistorySample[]> {
  const { nodeId, pointer } = splitAddress(address)
  const result: HistoryReadResult =
    'aggregate' in how
      ? await session.readAggregateValue({ nodeId }, new Date(from), new Date(to), AggregateFunction[how.aggregate], how.everyMs)
      : await session.readHistoryValue({ nodeId }, new Date(from), new Date(to), { numValuesPerNode: how.limit })
  if (result.statusCode.isBad())
    throw fail(
      502,
      'opcua.history',
      `The server gives no history of ${nodeId}: ${result.statusCode.name}`,
      'It may not keep any for this node, or not by this aggregate',
      'source',
    )
  const data = result.historyData instanceof HistoryData ? (result.historyData.dataValues ?? []) : []
  return data.map((v: DataValue) => {
    const found = leafOf(v, pointer)
    return {
      at: (v.sourceTimestamp ?? v.serverTimestamp)?.getTime() ?? 0,
      value: typeof found === 'bigint' ? whole(found) : found instanceof Date ? found.toISOString() : ((found ?? null) as Scalar),
      status: v.statusCode.value,
    }
  })
}

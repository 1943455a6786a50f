import type { Budget, BudgetSum } from '~/contract/budget'

export const spans = [
  { value: '10', label: 'last 10 min' },
  { value: '60', label: 'last hour' },
  { value: '360', label: 'last 6 h' },
  { value: '1440', label: 'last day' },
] as const

const DAY_MS = 86_400_000
const MONTH_DAYS = 30

/** So much in a day, as it went in a span of time. */
export const aDay = (n: number, { from, to }: Pick<Budget, 'from' | 'to'>): number => (to > from ? (n * DAY_MS) / (to - from) : 0)
export const aMonth = (day: number): number => day * MONTH_DAYS

/** Octets both ways with all that is put around messages where that is known, else those of payloads. */
export const octetsOf = ({ octets, wire }: BudgetSum): number => (wire ? wire.out + wire.back : octets)

/** `0.12 %`, `3 %`, `0`: a share of what the numbers moved. */
export function lostText(share: number): string {
  if (share === 0) return '0'
  const percent = share * 100
  if (percent < 0.01) return '< 0.01 %'
  return `${percent < 10 ? Number(percent.toPrecision(2)) : Math.round(percent)} %`
}

/** What a month costs at so much a megabyte; empty: no price is given. */
export function costText(octetsADay: number, price: number): string {
  if (!(price > 0)) return ''
  const cost = (aMonth(octetsADay) / 1e6) * price
  return cost >= 100 ? String(Math.round(cost)) : cost.toFixed(2)
}

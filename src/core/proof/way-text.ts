import type { WayHop } from '~/contract/way'

/** What is said of a hop; what it lacks is empty. */
export type Said = Pick<WayHop, 'state' | 'words'> & Partial<Pick<WayHop, 'name' | 'hint' | 'since' | 'id'>>

export const number = (n: number) => new Intl.NumberFormat('en').format(n)
export const many = (n: number, one: string) => `${number(n)} ${one}${n === 1 ? '' : 's'}`

/** A span in its largest unit. */
export function ago(ms: number): string {
  const s = Math.max(0, ms) / 1000
  if (s < 10) return `${s.toFixed(1)} s`
  if (s < 120) return `${Math.round(s)} s`
  if (s < 7200) return `${Math.round(s / 60)} min`
  return s < 172_800 ? `${Math.round(s / 3600)} h` : `${Math.round(s / 86_400)} days`
}

const DAY_MS = 86_400_000

/** A successor is due so many days before the end, epoch ms; never before two thirds of its life are over. */
export function dueAt({ notBefore, notAfter }: { notBefore: string; notAfter: string }, days: number): number {
  const [from, until] = [Date.parse(notBefore), Date.parse(notAfter)]
  return Math.max(until - days * DAY_MS, from + ((until - from) * 2) / 3)
}

/** How far the server's clock is ahead of this one, ms: the least delayed of its last words counts. */
let ahead = 0
const heard: number[] = []
const KEPT = 5

/** The server said what time it has (epoch ms); a word that was long on its way only seems to be of a slower clock. */
export function hearClock(at: number): void {
  heard.push(at - Date.now())
  if (heard.length > KEPT) heard.shift()
  ahead = Math.max(...heard)
}

/** Epoch ms by the server's clock: this computer's own may be wrong. */
export const serverNow = (): number => Date.now() + ahead

/** Passes things on in their order, each as late as `ms` says when it comes. */
export function delayed<T>(ms: () => number, pass: (thing: T) => void): (thing: T) => void {
  const waiting: { thing: T; due: number }[] = []
  const next = () => {
    while (waiting.length > 0 && waiting[0]!.due <= Date.now()) pass(waiting.shift()!.thing)
    if (waiting.length > 0) setTimeout(next, Math.max(1, waiting[0]!.due - Date.now()))
  }
  return (thing) => {
    const wait = ms()
    if (wait <= 0 && waiting.length === 0) return pass(thing)
    waiting.push({ thing, due: Date.now() + wait })
    if (waiting.length === 1) setTimeout(next, wait)
  }
}

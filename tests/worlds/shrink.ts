import type { Step } from './script'
import { type Outcome, World } from './world'

/** Leaves out of a script that fails whatever can be left out, so that it still fails: what remains is the story. */
export async function fewest(seed: number, script: readonly Step[]): Promise<Outcome> {
  const run = (s: readonly Step[]) => new World(seed).run([...s], 5)
  let steps = [...script]
  let worst = await run(steps)
  for (let again = true; again; ) {
    again = false
    for (let i = steps.length - 1; i > 0; i--) {
      const without = steps.filter((_, n) => n !== i)
      const o = await run(without)
      if (o.problems.length === 0) continue
      steps = without
      worst = o
      again = true
    }
  }
  return worst
}

import { z } from 'zod'
import { chance } from '~/core/value/chance'

/** What is done to one thing that is kept. */
export type Fate = 'kept' | 'dropped' | 'doubled' | 'altered'

export const rate = z.number().min(0).max(1).default(0)

/** What can go wrong at every stand-in that keeps things or hands them on. Rates are shares, 0 to 1; the same seed gives the same chances. */
export const mishapFields = {
  seed: z.number().int().default(1),
  /** Everything comes so much later, ms. */
  slowMs: z.number().min(0).max(120_000).default(0),
  /** Of what is taken so much is not kept, is kept twice, or with one octet changed. */
  drop: rate,
  double: rate,
  alter: rate,
}

/** Shares of what is dropped, doubled or altered, 0 to 1. */
interface Shares {
  seed: number
  drop: number
  double: number
  alter: number
}

/** Decides by chance what goes wrong: from the same seed the same. */
export class Mishaps<S extends Shares> {
  protected random: () => number

  constructor(public settings: S) {
    this.random = chance(settings.seed)
  }

  set(settings: S): void {
    this.settings = settings
    this.random = chance(settings.seed)
  }

  fate(): Fate {
    let n = this.random()
    for (const [share, fate] of [
      [this.settings.drop, 'dropped'],
      [this.settings.double, 'doubled'],
      [this.settings.alter, 'altered'],
    ] as const) {
      if (n < share) return fate
      n -= share
    }
    return 'kept'
  }

  happens(share: number): boolean {
    return share > 0 && this.random() < share
  }
}

import { chance } from '~/core/value/chance'

/** What is done to one thing that is kept. */
export type Fate = 'kept' | 'dropped' | 'doubled' | 'altered'

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

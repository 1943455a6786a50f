import { fail } from '~/contract/failure'
import type { OwnView } from '~/contract/own-view'
import type { Db } from '~/store/database'
import { getDestination } from '~/store/destination'
import type { Clock } from './clock/clock'
import { driverOf } from './destinations/registry'
import type { Targets } from './targets'

/** However many look, a destination is asked so often at most, ms. */
const EVERY_MS = 5000

interface Asked {
  version: number
  at: number
  answer: Promise<OwnView>
}

/** What destinations themselves say of this sender: asked when somebody looks. */
export class OwnViews {
  private readonly asked = new Map<string, Asked>()

  constructor(
    private readonly db: Db,
    private readonly targets: Targets,
    private readonly clock: Clock,
  ) {}

  async of(id: string): Promise<OwnView> {
    const destination = await getDestination(this.db, id)
    const ask = driverOf(destination.kind).ownView
    if (!ask) throw fail(409, 'destination.own-view', `${destination.name} tells nothing of itself`, 'That is a matter of cloud hubs', 'destination')
    const now = this.clock.mono()
    for (const [one, { at }] of this.asked) if (now - at > EVERY_MS) this.asked.delete(one)
    const before = this.asked.get(id)
    if (before?.version === destination.version) return before.answer
    const answer = this.targets.target(destination).then((target) => ask(target, this.clock))
    this.asked.set(id, { version: destination.version, at: now, answer })
    return answer
  }
}

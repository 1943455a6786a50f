import { createHash } from 'node:crypto'
import { fail } from '~/contract/failure'
import { type TokenAbout, userFor } from '~/core/credential/token/fill'
import { makeToken, TokenKeyError } from '~/core/credential/token/make'
import type { OpenCredential } from '~/store/credential'
import type { Clock } from './clock/clock'

/** It is looked so often whether a token is due, ms. */
const LOOK_MS = 1000
/** Who has not taken up a new one is told again after this, ms: what opens credentials may have been away. */
const AGAIN_MS = 15_000
/** A clock that was set by more than this makes the times in a token wrong, ms. */
const SET_MS = 5000

interface Made {
  token: string
  wall: number
  mono: number
  /** When it is to be renewed, and when it is gone; by the monotonic clock. */
  renewAt: number
  endsAt: number
  /** Who uses it was told; not before this again. */
  tellAt: number
}

/**
 * Tokens made from kept keys, one for each place and identity. Each is made anew ahead of its end, and whoever connects by it is
 * told, so that the connection is changed over while the old one still stands.
 */
export class Tokens {
  private readonly made = new Map<string, Made>()

  constructor(
    private readonly clock: Clock,
    /** Credentials are to be opened again: one of them has another token by now. */
    private readonly due: () => void,
  ) {}

  /** The log-in that a key makes for this place and identity. */
  async login(key: OpenCredential, about: TokenAbout): Promise<OpenCredential> {
    const { recipe, secret } = key
    if (!recipe || secret === null) throw fail(422, 'token.recipe', 'The key has no recipe to make tokens by', 'Replace the credential', 'credential')
    const name = createHash('sha256')
      .update(JSON.stringify([recipe, secret, about.host, about.port, about.identity]))
      .digest('hex')
    const kept = this.made.get(name)
    const token = kept && !this.isDue(kept) ? kept.token : await this.make(name, key, about)
    return { kind: 'password', certificate: null, user: userFor(key.user ?? '', about), secret: token }
  }

  private async make(name: string, { recipe, secret }: OpenCredential, about: TokenAbout): Promise<string> {
    const { clock } = this
    const [wall, mono] = [clock.wall(), clock.mono()]
    try {
      const { token, endsAt } = await makeToken(recipe!, secret!, about, wall)
      const lifeMs = endsAt - wall
      const renewAt = mono + Math.max(lifeMs / 2, lifeMs - recipe!.marginS * 1000)
      this.made.set(name, { token, wall, mono, renewAt, endsAt: mono + lifeMs, tellAt: 0 })
      return token
    } catch (e) {
      if (!(e instanceof TokenKeyError)) throw e
      throw fail(422, 'token.key', e.message, 'Replace the credential: say how its key is written', 'credential')
    }
  }

  private isDue({ wall, mono, renewAt }: Made): boolean {
    const now = this.clock.mono()
    return now >= renewAt || Math.abs(this.clock.wall() - wall - (now - mono)) > SET_MS
  }

  /** Begins to look for tokens that are due; gives what ends it. */
  watch(): () => void {
    return this.clock.every(LOOK_MS, () => this.look())
  }

  private look(): void {
    const now = this.clock.mono()
    let told = false
    for (const [name, made] of this.made) {
      if (now >= made.endsAt) this.made.delete(name)
      else if (now >= made.tellAt && this.isDue(made)) {
        made.tellAt = now + AGAIN_MS
        told = true
      }
    }
    if (told) this.due()
  }
}

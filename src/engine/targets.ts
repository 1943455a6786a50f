import type { DestinationCheck, DestinationKind, DestinationSettings } from '~/contract/destination'
import type { CheckStep } from '~/contract/failure'
import type { SourceDraft } from '~/contract/source'
import { kindOf } from '~/core/address/kinds'
import type { TokenAbout } from '~/core/credential/token/fill'
import { type OpenCredential, openCredential } from '~/store/credential'
import type { Db } from '~/store/database'
import { getDestination, listDestinations } from '~/store/destination'
import { readsAt } from '~/store/publication'
import { getSource, sourcePassword } from '~/store/source'
import type { Vault } from '~/store/vault'
import type { DestinationTarget, PlannedSend } from './destinations/driver'
import { driverOf } from './destinations/registry'
import type { SourceContext, SourceTarget } from './sources/driver'
import { sourceDriver } from './sources/registry'
import { sourceTokenAbout, tokenAbout } from './token-about'
import type { Tokens } from './tokens'

/** What is tried in the place of what a credential holds. */
export interface Instead {
  id: string
  credential: OpenCredential
}

export interface TargetsOptions {
  db: Db
  vault: Vault
  tokens: Tokens
  context(): SourceContext
  /** What publications that run send to a destination. */
  plannedFor(destinationId: string): PlannedSend[]
  /** Whether a destination is connected by just what a target has. */
  isConnected(destinationId: string, target: DestinationTarget): boolean
}

/** Sources and destinations with their credentials opened, for drivers only; and their checks, with what they would connect by. */
export class Targets {
  constructor(private readonly o: TargetsOptions) {}

  /** Tries something in the place of what a credential holds with one that uses it; gives what went wrong, null: nothing. */
  async tried(use: { kind: 'destination' | 'source'; id: string }, instead: Instead): Promise<string | null> {
    const steps =
      use.kind === 'destination' ? this.checkDestination(await getDestination(this.o.db, use.id), instead) : await this.sourceSteps(use.id, instead)
    for await (const step of steps) if (step.state === 'failed') return step.failure?.message ?? step.detail
    return null
  }

  private async sourceSteps(id: string, instead: Instead): Promise<AsyncGenerator<CheckStep>> {
    const { db, vault } = this.o
    const source = await getSource(db, id)
    const target = await this.sourceTarget(source, await sourcePassword(db, vault, id), instead)
    return sourceDriver(source.kind).check(target, this.o.context())
  }

  /** The steps of a destination's check, with what its publications send; `instead`: with something else in the place of a credential. */
  async *checkDestination(draft: DestinationCheck, instead?: Instead): AsyncGenerator<CheckStep> {
    const { db } = this.o
    const filters = draft.id ? await readsAt(db, draft.id) : []
    const others = (await listDestinations(db)).filter((d) => d.id !== draft.id)
    const target = await this.target(draft, instead)
    const connected = draft.id !== undefined && this.o.isConnected(draft.id, target)
    const planned = { filters, sends: draft.id ? this.o.plannedFor(draft.id) : [], others, connected }
    yield* driverOf(draft.kind).check(target, planned)
  }

  /** A credential with its secret; of a key that makes tokens the log-in that it makes for whom it is about. */
  private async opened(id: string, instead: Instead | undefined, about: () => TokenAbout): Promise<OpenCredential> {
    const one = instead?.id === id ? instead.credential : await openCredential(this.o.db, this.o.vault, id)
    return one.kind === 'token' ? this.o.tokens.login(one, about()) : one
  }

  /** A source with its secrets opened; `instead`: with something else in the place of a credential, to be tried. */
  async sourceTarget(s: Pick<SourceDraft, 'name' | 'kind' | 'settings'>, password: string | null, instead?: Instead): Promise<SourceTarget> {
    const { authorityId, credentialId, proxyCredentialId } = s.settings as unknown as Readonly<Record<string, string | null | undefined>>
    const open = (id: string | null | undefined) => (id ? this.opened(id, instead, () => sourceTokenAbout(s)) : null)
    return {
      name: s.name,
      kind: s.kind,
      settings: s.settings,
      password,
      authority: await open(authorityId),
      credential: await open(credentialId),
      proxy: await open(proxyCredentialId),
    }
  }

  /** A destination with its credentials opened, likewise. */
  async target<K extends DestinationKind>(
    d: { id?: string; kind?: K; name: string; settings: DestinationSettings[K] },
    instead?: Instead,
  ): Promise<DestinationTarget<K>> {
    const open = (field: string): Promise<OpenCredential> | null => {
      const id = (d.settings as unknown as Record<string, string | null>)[field]
      return id ? this.opened(id, instead, () => tokenAbout(d, field)) : null
    }
    const further = await Promise.all(
      (d.kind ? (kindOf({ kind: d.kind }).furtherCredentials ?? []) : []).map(async (field) => [field, await open(field)] as const),
    )
    return {
      id: d.id ?? null,
      name: d.name,
      settings: d.settings,
      authority: await open('authorityId'),
      credential: await open('credentialId'),
      witnessCredential: await open('witnessCredentialId'),
      ...(further.length > 0 && { more: Object.fromEntries(further) }),
    }
  }
}

import type { ReactNode } from 'react'
import type { CredentialDraft } from '~/contract/credential'
import type { DestinationKind, DestinationSettings } from '~/contract/destination'
import type { HandedOver } from '~/contract/intake'
import type { HandedAddress } from '../intake/addresses'
import type { Beside } from '../intake/useTakenIn'

/** All that pages need to know of a kind of destination. Adding a kind adds one of these, and its line in the registry. */
export interface KindView<K extends DestinationKind> {
  label: string
  /** A name as it could be. */
  example: string
  fresh: DestinationSettings[K]
  /** What the check will try. */
  check: string
  /** Fields that hold a credential: which kinds each takes, the one that is added from there first. */
  credentials: Readonly<Record<string, readonly [CredentialDraft['kind'], ...CredentialDraft['kind'][]]>>
  place(settings: DestinationSettings[K]): string
  /** What it is exposed to; null: nothing to warn of. */
  warning(settings: DestinationSettings[K]): string | null
  /** Fields that mean nothing as the others stand. */
  hides(settings: DestinationSettings[K]): readonly string[]
  /** Groups of its form that few need. */
  folded?: readonly string[]
  /** Whether what is sent there is read back. */
  witnessed(settings: DestinationSettings[K]): boolean
  /** What follows from an address that somebody was handed, and what was kept beside it; absent: nothing. */
  filled?(address: HandedAddress, beside: Beside, now: DestinationSettings[K]): Partial<DestinationSettings[K]>
  /** Whether such an address can be of this kind only. */
  claims?(address: HandedAddress): boolean
  /** How tokens are made from a shared key that somebody was handed; absent: that is not known here. */
  maker?(settings: DestinationSettings[K]): HandedOver['maker']
  /** Whether it can be asked what it knows of this sender itself; absent: it cannot. */
  asked?(settings: DestinationSettings[K]): boolean
  /** What stands beside its form, over the check. */
  Beside?(props: { settings: DestinationSettings[K]; set(field: keyof DestinationSettings[K] & string, value: unknown): void }): ReactNode
  /** Settings of the sender in a few lines of facts; `credential` says what stands under an id, null: it is not to be seen. */
  SenderFacts(props: FactsProps<K>): ReactNode
  /** The same of the witness. */
  WitnessFacts(props: FactsProps<K>): ReactNode
}

export interface FactsProps<K extends DestinationKind> {
  settings: DestinationSettings[K]
  credential: ((id: string | null) => string) | null
}

import type { ReactNode } from 'react'
import type { CredentialDraft } from '~/contract/credential'
import type { CheckStep } from '~/contract/failure'
import type { SettingsOf, SourceKind } from '~/contract/source'
import type { HandedAddress } from '../../destinations/intake/addresses'

/** A source's form, as far as its kind has a say in it. */
export interface KindForm<K extends SourceKind> {
  settings: SettingsOf<K>
  /** Sets one setting. */
  set<Field extends keyof SettingsOf<K> & string>(field: Field, value: SettingsOf<K>[Field]): void
  /** What the last check found. */
  steps: readonly CheckStep[]
  /** Runs the check again. */
  check(): void
}

/** All that pages need to know of a kind of source. Adding a kind adds one of these, and its line in the registry. */
export interface KindView<K extends SourceKind> {
  label: string
  /** What it is for, in a line. */
  note: string
  fresh: SettingsOf<K>
  /** What the check will try. */
  check: string
  /** Where its tags are made, and what the way there is called. */
  tags: { page: string; label: string }
  /** Whether its values come from a device, not from Embrik. */
  measured: boolean
  /** Which credentials its field takes, and which kind is added from there; none: it has no such field. */
  credentials: readonly CredentialDraft['kind'][]
  place(settings: SettingsOf<K>): string
  /** What it is exposed to; null: nothing to warn of. */
  warning(settings: SettingsOf<K>): string | null
  /** Fields that mean nothing as the others stand. */
  hides(settings: SettingsOf<K>): readonly string[]
  /** Groups of its form that few need. */
  folded?: readonly string[]
  /** After which field the password or token is asked for, and what it is called; null: there is none. */
  secret(settings: SettingsOf<K>): { after: string; label: string } | null
  /** What follows from an address that somebody was handed; absent: nothing. */
  filled?(address: HandedAddress): Partial<SettingsOf<K>>
  /** Its settings in a few lines of facts. */
  Facts(props: { settings: SettingsOf<K> }): ReactNode
  /** What stands after fields of its form, by their names. */
  after?(form: KindForm<K>): Record<string, ReactNode>
  /** What stands beside its form, over the check. */
  Found?(props: { form: KindForm<K> }): ReactNode
  /** What stands beside its form, under the check. */
  Beside?(): ReactNode
}

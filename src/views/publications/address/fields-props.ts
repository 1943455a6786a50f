import type { ReactNode } from 'react'
import type { AddressKindName, AddressOfKind } from '~/contract/address'
import type { Offered } from '../TemplateEditor'

/** What the fields of an address get, whatever its kind. */
export interface AddressFieldsProps<K extends AddressKindName> {
  address: AddressOfKind<K>
  set(change: Partial<AddressOfKind<K>>): void
  /** What is wrong, by field. */
  errors: Readonly<Record<string, string>>
  /** What templates may name. */
  offer: Offered[]
  /** The standard of the shape says where its messages go. */
  prescribed: boolean
  /** Of the payload, where none is chosen. */
  contentType: string
  /** What is asked where members steer the address. */
  steers: ReactNode
  /** Whether what travels beside the payload is shown from the beginning. */
  open: boolean
}

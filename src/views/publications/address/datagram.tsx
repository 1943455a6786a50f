import { addressKinds } from '~/core/address/kinds'
import type { AddressFieldsProps } from './fields-props'
import { TemplateField } from './parts'

/** Group or host, and the port. */
export function DatagramFields({ address, set, errors, offer, steers }: AddressFieldsProps<'datagram'>) {
  return (
    <>
      <TemplateField
        label="Group or host"
        help="With the port: 239.192.7.1:4840. Groups of 239.192.0.0/14 a plant has for itself; type { for what can be filled in, like a fact"
        value={address.topic}
        onChange={(topic) => set({ topic })}
        offer={offer}
        check={addressKinds.datagram.placeProblems}
        error={errors.topic}
      />
      {steers}
    </>
  )
}

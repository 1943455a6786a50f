import { addressKinds } from '~/core/address/kinds'
import { TextField } from '~/ui/Field'
import type { AddressFieldsProps } from './fields-props'
import { PlaceField } from './parts'

/** Table and keys of rows. */
export function TableFields(props: AddressFieldsProps<'table'>) {
  const { address, set, errors, offer, steers } = props
  return (
    <>
      <PlaceField
        label="Table"
        value={address.topic}
        onChange={(topic) => set({ topic })}
        offer={offer}
        check={addressKinds.table.placeProblems}
        separator="."
        rule={address.topicRule}
        onRule={(topicRule) => set({ topicRule })}
        error={errors.topic}
      />
      <TextField
        label="One row for each"
        value={address.keys}
        onChange={(e) => set({ keys: e.target.value })}
        error={errors.keys}
        help="Columns by which a row is known again and replaced: equipment, name. Empty: each message adds its rows"
      />
      {steers}
    </>
  )
}

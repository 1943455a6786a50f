import { addressKinds } from '~/core/address/kinds'
import { TextField } from '~/ui/Field'
import type { AddressFieldsProps } from './fields-props'
import { PlaceField } from './parts'

/** Path of the files, and types of their columns. */
export function FileFields(props: AddressFieldsProps<'file'>) {
  const { address, set, errors, offer, steers } = props
  return (
    <>
      <PlaceField
        label="Path"
        value={address.topic}
        onChange={(topic) => set({ topic })}
        offer={offer}
        check={addressKinds.file.placeProblems}
        separator="/"
        rule={address.topicRule}
        onRule={(topicRule) => set({ topicRule })}
        error={errors.topic}
      />
      <TextField
        label="Types of columns"
        value={address.types}
        onChange={(e) => set({ types: e.target.value })}
        error={errors.types}
        help="For Parquet: at time, count whole (text, number, whole, truth, time). What is not named is as its values are"
      />
      {steers}
    </>
  )
}

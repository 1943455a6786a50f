import { addressKinds } from '~/core/address/kinds'
import type { AddressFieldsProps } from './fields-props'
import { Beside, PlaceField, TemplateField } from './parts'

/** Topic, key, and the headers of a stream's records. */
export function StreamFields(props: AddressFieldsProps<'stream'>) {
  const { address, set, errors, offer, steers } = props
  return (
    <>
      <PlaceField
        label="Topic"
        value={address.topic}
        onChange={(topic) => set({ topic })}
        offer={offer}
        check={addressKinds.stream.placeProblems}
        separator="."
        rule={address.topicRule}
        onRule={(topicRule) => set({ topicRule })}
        error={errors.topic}
      />
      <TemplateField
        label="Key"
        help="What has one key goes to one partition and stays in order there; empty: the topic is the key"
        value={address.key}
        onChange={(key) => set({ key })}
        offer={offer}
        error={errors.key}
      />
      {steers}
      <Beside {...{ address, set, errors, offer }} payloadType={props.contentType} open={props.open} what="Headers, content type" />
    </>
  )
}

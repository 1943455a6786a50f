import { addressKinds } from '~/core/address/kinds'
import { SelectField } from '~/ui/Field'
import type { AddressFieldsProps } from './fields-props'
import { Beside, PlaceField } from './parts'

const methods = { POST: 'POST, one more', PUT: 'PUT, in place of what is there', PATCH: 'PATCH, changes what is there' } as const

/** Path, method and headers of requests. */
export function HttpFields(props: AddressFieldsProps<'http'>) {
  const { address, set, errors, offer, steers } = props
  return (
    <>
      <PlaceField
        label="Path"
        value={address.topic}
        onChange={(topic) => set({ topic })}
        offer={offer}
        check={addressKinds.http.placeProblems}
        separator="/"
        rule={address.topicRule}
        onRule={(topicRule) => set({ topicRule })}
        error={errors.topic}
      />
      <SelectField label="Method" value={address.method} onChange={(e) => set({ method: e.target.value as typeof address.method })}>
        {Object.entries(methods).map(([method, words]) => (
          <option key={method} value={method}>
            {words}
          </option>
        ))}
      </SelectField>
      {steers}
      <Beside {...{ address, set, errors, offer }} payloadType={props.contentType} open={props.open} what="Headers, content type" />
    </>
  )
}

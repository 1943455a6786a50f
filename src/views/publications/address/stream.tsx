import { useState } from 'react'
import { addressKinds } from '~/core/address/kinds'
import { TextField } from '~/ui/Field'
import { Heading } from '~/ui/Notes'
import type { AddressFieldsProps } from './fields-props'
import { HeaderFields, More, PlaceField, TemplateField } from './parts'

/** Topic, key, and the headers of a stream's records. */
export function StreamFields(props: AddressFieldsProps<'stream'>) {
  const { address, set, errors, offer, steers } = props
  const { headers, contentType } = address
  const [more, setMore] = useState(props.open || headers.length > 0 || contentType !== '')
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
      {more ? (
        <>
          <Heading>Beside the payload</Heading>
          <TextField
            label="Content type"
            mono
            value={contentType}
            onChange={(e) => set({ contentType: e.target.value })}
            placeholder={props.contentType}
            error={errors.contentType}
          />
          <HeaderFields headers={headers} onChange={(h) => set({ headers: h })} offer={offer} errors={errors} />
        </>
      ) : (
        <More onOpen={() => setMore(true)}>Headers, content type</More>
      )}
    </>
  )
}

import { templateProblems } from '~/core/address/topic-template'
import { SelectField } from '~/ui/Field'
import type { AddressFieldsProps } from './fields-props'
import { Beside, PlaceField } from './parts'

const qosWords = ['at most once', 'at least once', 'exactly once on one connection']

/** What a message says of its place at a hub, and how sure its way there is; the profile of the hub makes a topic of it. */
export function HubFields(props: AddressFieldsProps<'hub'>) {
  const { address, set, errors, offer, steers } = props
  return (
    <>
      <PlaceField
        label="Path"
        value={address.topic}
        onChange={(topic) => set({ topic })}
        offer={offer}
        check={templateProblems}
        separator="/"
        rule={address.topicRule}
        onRule={(topicRule) => set({ topicRule })}
        error={errors.topic}
      />
      <SelectField label="Quality of service" value={address.qos} onChange={(e) => set({ qos: Number(e.target.value) as 0 | 1 | 2 })}>
        {qosWords.map((w, q) => (
          <option key={w} value={q}>{`${q}, ${w}`}</option>
        ))}
      </SelectField>
      {steers}
      <Beside {...{ address, set, errors, offer }} payloadType={props.contentType} open={props.open} what="Headers, content type" />
    </>
  )
}

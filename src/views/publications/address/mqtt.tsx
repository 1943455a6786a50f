import { templateProblems } from '~/core/address/topic-template'
import { SelectField, TextField } from '~/ui/Field'
import type { AddressFieldsProps } from './fields-props'
import { Beside, PlaceField, TemplateField } from './parts'

const qosWords = ['at most once', 'at least once', 'exactly once on one connection']

/** Topic, QoS, retain, and what travels beside the payload over MQTT. */
export function MqttFields(props: AddressFieldsProps<'mqtt'>) {
  const { address, set, errors, offer, prescribed, steers } = props
  const { responseTopic, expiryS } = address
  return (
    <>
      {prescribed ? (
        <p className="py-1 text-muted">
          The standard fixes the topics (group, kind of message, edge node, device), QoS 0, and that nothing is retained.
        </p>
      ) : (
        <>
          <PlaceField
            label="Topic"
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
          <label className="flex items-center gap-2 py-1 pl-[142px]">
            <input type="checkbox" className="accent-(--clay)" checked={address.retain} onChange={(e) => set({ retain: e.target.checked })} />
            retain: a new subscriber gets the last value at once
          </label>
        </>
      )}
      {steers}
      <Beside
        {...{ address, set, errors, offer }}
        payloadType={props.contentType}
        open={props.open || responseTopic !== '' || expiryS !== null}
        what="Headers, content type, expiry"
      >
        <TemplateField
          label="Response topic"
          help="Where an answer is expected"
          value={responseTopic}
          onChange={(text) => set({ responseTopic: text })}
          offer={offer}
          error={errors.responseTopic}
        />
        <TextField
          label="Expires after"
          unit="s"
          mono
          inputMode="numeric"
          value={expiryS ?? ''}
          help="Receivers need not get it later; empty: never"
          onChange={(e) => set({ expiryS: e.target.value.trim() === '' ? null : Number(e.target.value) })}
          error={errors.expiryS}
        />
      </Beside>
    </>
  )
}

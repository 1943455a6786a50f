import { zodResolver } from '@hookform/resolvers/zod'
import { type FieldValues, useForm } from 'react-hook-form'
import { type Destination, DestinationDraft, MqttSettings } from '~/contract/destination'
import { Heading, ProblemNote } from '~/ui/Notes'
import { call, refresh, useCall } from '../app/api'
import { CheckPanel } from '../shared/CheckPanel'
import { SettingsSheet } from '../shared/SettingsSheet'
import { checkedText, useCheck } from '../shared/Steps'
import { useKeptForm } from '../shared/useKeptForm'
import { useSaving } from '../shared/useSaving'
import { useNewCredential } from './useNewCredential'

const fresh: DestinationDraft = {
  name: '',
  kind: 'mqtt',
  enabled: true,
  settings: {
    host: '',
    port: 8883,
    protocol: '5',
    tls: true,
    authorityId: null,
    clientId: 'embrik',
    credentialId: null,
    keepAliveS: 30,
    retryMs: 1000,
    window: 200,
    ackS: 20,
    witness: true,
    witnessClientId: 'embrik-witness',
    witnessCredentialId: null,
    lateS: 30,
    outboxMb: 500,
  },
}

const ofWitness = ['witnessClientId', 'witnessCredentialId', 'lateS']

/** Adds or edits a destination; the check on the right tries what stands in the form, witness included. */
export function DestinationForm({
  destination,
  onClose,
  onSaved,
}: {
  destination: Destination | null
  onClose(): void
  onSaved(d: Destination): void
}) {
  const start = destination ? { name: destination.name, kind: destination.kind, enabled: destination.enabled, settings: destination.settings } : fresh
  const form = useForm<FieldValues>({ defaultValues: start, resolver: zodResolver(DestinationDraft) as never, mode: 'onChange' })
  const credentials = useCall('listCredentials')
  const { saving, problem, save } = useSaving(form)
  const kept = useKeptForm(form, `destination ${destination?.id ?? 'new'}`, destination?.version ?? null, start)
  // Closed on purpose, after a question where something was typed: then it is thrown away.
  const close = () => {
    kept.forget()
    onClose()
  }
  const adding = useNewCredential(form, { authorityId: 'authority', credentialId: 'certificate', witnessCredentialId: 'certificate' })
  const { watch } = form
  const check = useCheck('checkDestination', checkedText(watch('settings')))
  const tls = watch('settings.tls') as boolean
  const witness = watch('settings.witness') as boolean
  const of = (...kinds: string[]) => (credentials.data ?? []).filter((c) => kinds.includes(c.kind)).map((c) => ({ value: c.id, label: c.name }))

  const runCheck = async () => {
    if (await form.trigger()) await check.run({ ...form.getValues(), ...(destination && { id: destination.id }) } as never)
  }
  const submit = form.handleSubmit(() =>
    save(async () => {
      const body = form.getValues() as DestinationDraft
      const saved = destination
        ? await call('changeDestination', { params: { id: destination.id }, query: { version: kept.begun }, body })
        : await call('addDestination', { body })
      await refresh('listDestinations', 'listCredentials')
      kept.forget()
      onSaved(saved)
    }),
  )
  return (
    <>
      <SettingsSheet
        what="Destination"
        title={destination ? destination.name : 'Add a destination'}
        note="MQTT broker"
        example="Site broker"
        kept={kept}
        saving={saving}
        there={destination !== null}
        onClose={close}
        onSave={submit}
        schema={MqttSettings}
        form={form}
        options={{
          authorityId: of('authority'),
          credentialId: of('certificate', 'password'),
          witnessCredentialId: of('certificate', 'password'),
        }}
        after={adding.after}
        hide={(f) => (f === 'authorityId' && !tls) || (ofWitness.includes(f) && !witness)}
      >
        <CheckPanel
          check={check}
          onRun={() => void runCheck()}
          before="Tries name, port, TLS, the log-in and the witness, each by itself. Nothing is sent and nothing saved by it."
        />
        <Heading>Credentials</Heading>
        <p className="text-muted">
          Certificates and log-ins are kept apart from destinations.{' '}
          <a className="text-slate underline" href="/destinations/credentials">
            Look at them
          </a>
        </p>
        {problem && <ProblemNote problem={problem} />}
      </SettingsSheet>
      {adding.dialog}
    </>
  )
}

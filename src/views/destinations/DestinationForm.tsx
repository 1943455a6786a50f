import { zodResolver } from '@hookform/resolvers/zod'
import { useState } from 'react'
import { type FieldValues, useForm } from 'react-hook-form'
import { type Destination, DestinationDraft, type DestinationKind, destinationSettings } from '~/contract/destination'
import { SelectField } from '~/ui/Field'
import { Heading, ProblemNote } from '~/ui/Notes'
import { call, refresh, useCall } from '../app/api'
import { CheckPanel } from '../shared/CheckPanel'
import { SettingsSheet } from '../shared/SettingsSheet'
import { checkedText, useCheck } from '../shared/Steps'
import { useKeptForm } from '../shared/useKeptForm'
import { useSaving } from '../shared/useSaving'
import type { Begun } from './intake/useHanded'
import { useTakenIn } from './intake/useTakenIn'
import { destinationKinds, kindView } from './kinds'
import { useNewCredential } from './useNewCredential'

interface Props {
  destination: Destination | null
  onClose(): void
  onSaved(d: Destination): void
}

/** A form of one kind, with what was typed or handed over in that of another. */
interface BegunForm {
  kind: DestinationKind
  name: string
  handed: Begun | null
}

/** Adds a destination, of a kind that is chosen in it, or edits one. */
export function DestinationForm(props: Props) {
  const [begun, setBegun] = useState<BegunForm>({ kind: props.destination?.kind ?? 'mqtt', name: '', handed: null })
  return <KindForm key={begun.kind} begun={begun} onKind={setBegun} {...props} />
}

/** The settings of a destination of one kind; the check on the right tries what stands in the form, witness included. */
function KindForm({ destination, begun, onKind, onClose, onSaved }: Props & { begun: BegunForm; onKind(b: BegunForm): void }) {
  const { kind } = begun
  const view = kindView(kind)
  const start = destination
    ? { name: destination.name, kind, enabled: destination.enabled, settings: { ...view.fresh, ...destination.settings } }
    : { name: begun.name, kind, enabled: true, settings: view.fresh }
  const form = useForm<FieldValues>({ defaultValues: start, resolver: zodResolver(DestinationDraft) as never, mode: 'onChange' })
  const credentials = useCall('listCredentials')
  const { saving, problem, save } = useSaving(form)
  const kept = useKeptForm(form, `destination ${destination?.id ?? (kind === 'mqtt' ? 'new' : `new ${kind}`)}`, destination?.version ?? null, start)
  // Closed on purpose, after a question where something was typed: then it is thrown away.
  const close = () => {
    kept.forget()
    onClose()
  }
  const adding = useNewCredential(form, Object.fromEntries(Object.entries(view.credentials).map(([field, [first]]) => [field, first])), () =>
    view.maker?.(form.getValues('settings') as never),
  )
  const named = () => form.getValues('name') as string
  const taking = useTakenIn(form, view, {
    begun: begun.handed,
    elsewhere(address, handed) {
      const of = destination ? undefined : destinationKinds.find((k) => kindView(k).claims?.(address))
      if (of && of !== kind) onKind({ kind: of, name: named(), handed })
    },
  })
  const { watch } = form
  const check = useCheck('checkDestination', checkedText(watch('settings')))
  const { Beside } = view
  const hides = view.hides(watch('settings') as never)
  const options = Object.fromEntries(
    Object.entries(view.credentials).map(([field, kinds]) => [
      field,
      (credentials.data ?? []).filter((c) => kinds.some((k) => k === c.kind)).map((c) => ({ value: c.id, label: c.name })),
    ]),
  )

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
        note={view.label}
        example={view.example}
        kept={kept}
        filled={taking.filled}
        hands={taking.hands}
        saving={saving}
        there={destination !== null}
        onClose={close}
        onSave={submit}
        head={
          !destination && (
            <SelectField label="Kind" value={kind} onChange={(e) => onKind({ kind: e.target.value as DestinationKind, name: named(), handed: null })}>
              {destinationKinds.map((k) => (
                <option key={k} value={k}>
                  {kindView(k).label}
                </option>
              ))}
            </SelectField>
          )
        }
        schema={destinationSettings[kind]}
        form={form}
        options={options}
        after={adding.after}
        hide={(field) => hides.includes(field)}
        folded={view.folded ?? []}
      >
        {Beside && (
          <Beside
            settings={watch('settings') as never}
            set={(field, value) => form.setValue(`settings.${field}`, value, { shouldValidate: true, shouldDirty: true })}
          />
        )}
        <CheckPanel check={check} onRun={() => void runCheck()} before={view.check} />
        <Heading>Credentials</Heading>
        <p className="mb-2 text-muted">
          Certificates and log-ins are kept apart from destinations.{' '}
          <a className="text-slate underline" href="/destinations/credentials">
            Look at them
          </a>
        </p>
        {taking.button}
        {problem && <ProblemNote problem={problem} />}
      </SettingsSheet>
      {adding.dialog}
      {taking.dialog}
    </>
  )
}

import { zodResolver } from '@hookform/resolvers/zod'
import { type FieldValues, useForm } from 'react-hook-form'
import { type Source, SourceDraft, type SourceKind, sourceSettings } from '~/contract/source'
import { Button } from '~/ui/Button'
import { PasswordField } from '~/ui/Field'
import { Heading, ProblemNote } from '~/ui/Notes'
import { Pre } from '~/ui/Pre'
import { call, refresh, useCall } from '../app/api'
import { useTakenIn } from '../destinations/intake/useTakenIn'
import { useNewCredential } from '../destinations/useNewCredential'
import { CheckPanel } from '../shared/CheckPanel'
import { SettingsSheet } from '../shared/SettingsSheet'
import { checkedText, useCheck } from '../shared/Steps'
import { useKeptForm } from '../shared/useKeptForm'
import { useSaving } from '../shared/useSaving'
import { kindView } from './kinds'
import type { KindForm as KindParts } from './kinds/kind-view'
import { sentenceOf, useSourceUse } from './SourceUse'

/** The settings of a source of one kind; the check on the right tries what stands in the form. */
export function KindForm({
  kind,
  source,
  onClose,
  onSaved,
  onBack,
}: {
  kind: SourceKind
  source: Source | null
  onClose(): void
  onSaved(s: Source): void
  onBack?(): void
}) {
  const view = kindView(kind)
  const start = source
    ? { name: source.name, kind, enabled: source.enabled, settings: { ...view.fresh, ...source.settings } }
    : { name: '', kind, enabled: true, settings: view.fresh }
  const form = useForm<FieldValues>({ defaultValues: start, resolver: zodResolver(SourceDraft) as never, mode: 'onChange' })
  const credentials = useCall('listCredentials')
  const { saving, problem, save } = useSaving(form)
  const adding = useNewCredential(form, { authorityId: 'authority', credentialId: view.credentials[0] ?? 'password', proxyCredentialId: 'password' })
  const taking = useTakenIn(form, { filled: view.filled, credentials: { authorityId: ['authority'], credentialId: view.credentials } })
  const { register, watch, formState } = form
  const settings = watch('settings') as Record<string, unknown>
  // To trust or refuse the certificate that a check has shown is no other thing to check.
  const check = useCheck(
    'checkSource',
    checkedText({ ...settings, serverThumbprint: '', serverCertificate: '', refusedThumbprint: '', password: watch('password') }),
  )
  const passed = check.steps.length > 0 && check.steps.every((s) => s.state === 'passed')
  const secret = view.secret(settings as never)
  const hides = view.hides(settings as never)
  const warning = view.warning(settings as never)
  const of = (...kinds: string[]) => (credentials.data ?? []).filter((c) => kinds.includes(c.kind)).map((c) => ({ value: c.id, label: c.name }))
  const result = check.steps.find((s) => s.facts?.result)?.facts?.result

  const kept = useKeptForm(form, `source ${source?.id ?? `new ${kind}`}`, source?.version ?? null, start, ['password'])
  // Closed on purpose, after a question where something was typed: then it is thrown away.
  const close = () => {
    kept.forget()
    onClose()
  }
  const draft = () => {
    const v = form.getValues()
    return { ...v, ...(v.password ? {} : { password: undefined }) } as SourceDraft
  }
  const runCheck = async () => {
    if (!(await form.trigger())) return
    await check.run({ ...draft(), ...(source && { id: source.id }) } as never)
  }
  const parts: KindParts<SourceKind> = {
    settings: settings as never,
    set: (field: string, value: unknown) => form.setValue(`settings.${field}`, value, { shouldDirty: true, shouldValidate: true }),
    steps: check.steps,
    check: () => void runCheck(),
  }
  const passwordField = secret && (
    <PasswordField
      label={secret.label}
      placeholder={source?.hasPassword ? 'kept; type to replace' : ''}
      help="Kept encrypted, never shown again"
      error={formState.errors.password?.message as string | undefined}
      {...register('password')}
    />
  )
  const submit = form.handleSubmit(() =>
    save(async () => {
      const saved = source
        ? await call('changeSource', { params: { id: source.id }, query: { version: kept.begun }, body: draft() })
        : await call('addSource', { body: draft() })
      await refresh('listSources', 'listCredentials')
      kept.forget()
      onSaved(saved)
    }),
  )

  return (
    <>
      <SettingsSheet
        what="Source"
        title={source ? source.name : `Add a source: ${view.label}`}
        note={view.note}
        example="Kiln controller"
        kept={kept}
        filled={taking.filled}
        hands={taking.hands}
        saving={saving}
        there={source !== null}
        warning={warning}
        foot={
          <>
            {onBack && <Button onClick={onBack}>Another protocol</Button>}
            <span className="mr-auto text-muted">{passed ? 'The check passed.' : 'Saving is possible without a check.'}</span>
          </>
        }
        onClose={close}
        onSave={submit}
        schema={sourceSettings[kind]}
        form={form}
        options={{ authorityId: of('authority'), credentialId: of(...view.credentials), proxyCredentialId: of('password') }}
        hide={(f) => hides.includes(f)}
        folded={view.folded ?? []}
        after={{ ...adding.after, ...view.after?.(parts), ...(secret && { [secret.after]: passwordField }) }}
      >
        {problem && (
          <div className="mb-3">
            <ProblemNote problem={problem} />
          </div>
        )}
        {view.Found && <view.Found form={parts} />}
        <CheckPanel check={check} onRun={() => void runCheck()} before={view.check} />
        {result && (
          <>
            <Heading>What came</Heading>
            <Pre label="What came" className="max-h-64 bg-sheet px-2 py-1.5 text-xs">
              {result}
            </Pre>
          </>
        )}
        {view.filled && <div className="mt-3">{taking.button}</div>}
        {view.Beside && <view.Beside />}
        {source && <UseNote source={source} />}
      </SettingsSheet>
      {adding.dialog}
      {taking.dialog}
    </>
  )
}

/** What saving will touch. */
function UseNote({ source }: { source: Source }) {
  const use = useSourceUse(source.id)
  if (!use || use.tags === 0) return null
  return (
    <>
      <Heading>Where it is used</Heading>
      <p className="text-muted">{sentenceOf(use)}. Saving connects it anew: its values pause for that moment.</p>
    </>
  )
}

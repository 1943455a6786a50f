import { zodResolver } from '@hookform/resolvers/zod'
import { useState } from 'react'
import { type FieldValues, useForm } from 'react-hook-form'
import { type Source, SourceDraft, type SourceKind, sourceSettings } from '~/contract/source'
import { Button } from '~/ui/Button'
import { CheckField, TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { Heading, ProblemNote, WarnNote } from '~/ui/Notes'
import { Pre } from '~/ui/Pre'
import { call, refresh, useCall } from '../app/api'
import { useNewCredential } from '../destinations/useNewCredential'
import { CheckPanel } from '../shared/CheckPanel'
import { KeptNote } from '../shared/DraftNotes'
import { SettingsForm } from '../shared/SettingsForm'
import { useCheck } from '../shared/Steps'
import { useKeptForm } from '../shared/useKeptForm'
import { useSaving } from '../shared/useSaving'
import { kindList, kindView } from './kinds'
import { Offers, OwnCertificate, ServerCertificate } from './OpcUaParts'
import { sentenceOf, useSourceUse } from './SourceUse'

/** Adds a source: first of which kind, then its settings. Or edits one. */
export function SourceForm({ source, onClose, onSaved }: { source: Source | null; onClose(): void; onSaved(s: Source): void }) {
  const [kind, setKind] = useState<SourceKind | null>(source?.kind ?? null)
  if (kind) return <KindForm kind={kind} source={source} onClose={onClose} onSaved={onSaved} {...(!source && { onBack: () => setKind(null) })} />
  return (
    <Modal
      open
      onClose={onClose}
      width={620}
      title="Add a source"
      note="Over which protocol do its values come?"
      foot={<Button onClick={onClose}>Cancel</Button>}
    >
      <ul className="divide-y divide-line border-y border-line">
        {kindList.map((k, i) => (
          <li key={k.kind}>
            <button
              type="button"
              // biome-ignore lint/a11y/noAutofocus: the dialog's first choice
              autoFocus={i === 0}
              onClick={() => setKind(k.kind)}
              className="grid w-full grid-cols-[140px_1fr] gap-3 px-2 py-2.5 text-left hover:bg-well focus-visible:bg-wash"
            >
              <span className="font-semibold">{k.label}</span>
              <span className="text-muted">{k.note}</span>
            </button>
          </li>
        ))}
      </ul>
    </Modal>
  )
}

/** Fields that mean nothing as the others stand. */
function hidden(kind: SourceKind, field: string, settings: Record<string, unknown>): boolean {
  if (field === 'authorityId') return kind === 'http' ? !String(settings.url).startsWith('https:') : settings.tls === false
  if (field === 'user') return (kind === 'opcua' && settings.login !== 'user') || (kind === 'http' && settings.login !== 'basic')
  if (field === 'credentialId' && kind === 'opcua') return settings.login !== 'certificate'
  return field === 'serverThumbprint' && settings.mode === 'None'
}

/** After which field the password or token is asked for, and what it is called; null: there is none. */
function secretAt(kind: SourceKind, settings: Record<string, unknown>): { after: string; label: string } | null {
  if (kind === 'sql') return { after: 'user', label: 'Password' }
  if (kind === 'opcua' && settings.login === 'user') return { after: 'user', label: 'Password' }
  if (kind === 'http' && settings.login === 'basic') return { after: 'user', label: 'Password' }
  return kind === 'http' && settings.login === 'bearer' ? { after: 'login', label: 'Token' } : null
}

function KindForm({
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
  const adding = useNewCredential(form, { authorityId: 'authority', credentialId: kind === 'opcua' ? 'certificate' : 'password' })
  const { register, watch, formState } = form
  const settings = watch('settings') as Record<string, unknown>
  // To trust or refuse the certificate that a check has shown is no other thing to check.
  const check = useCheck('checkSource', JSON.stringify({ ...settings, serverThumbprint: '', refusedThumbprint: '', password: watch('password') }))
  const passed = check.steps.length > 0 && check.steps.every((s) => s.state === 'passed')
  const secret = secretAt(kind, settings)
  const warning = view.warning(settings as never)
  const of = (...kinds: string[]) => (credentials.data ?? []).filter((c) => kinds.includes(c.kind)).map((c) => ({ value: c.id, label: c.name }))
  const server = check.steps.find((s) => s.facts?.serverThumbprint)?.facts
  const decide = (trusted: string, refused: string) => {
    form.setValue('settings.serverThumbprint', trusted, { shouldDirty: true })
    form.setValue('settings.refusedThumbprint', refused, { shouldDirty: true })
  }
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
    <Modal
      open
      onClose={close}
      width={900}
      title={source ? source.name : `Add a source: ${view.label}`}
      note={view.note}
      foot={
        <>
          {onBack && <Button onClick={onBack}>Another protocol</Button>}
          <span className="mr-auto text-muted">{passed ? 'The check passed.' : 'Saving is possible without a check.'}</span>
          <Button onClick={close}>Cancel</Button>
          <Button kind="main" busy={saving} onClick={() => void submit()}>
            {source ? 'Save' : 'Add source'}
          </Button>
        </>
      }
    >
      <div className="grid grid-cols-[1fr_330px] gap-6">
        <form onSubmit={(e) => void submit(e)} aria-label="Source">
          {kept.keptAt !== null && <KeptNote at={kept.keptAt} onForget={kept.again} />}
          <TextField
            label="Name"
            autoFocus
            placeholder="Kiln controller"
            error={formState.errors.name?.message as string | undefined}
            {...register('name')}
          />
          <SettingsForm
            schema={sourceSettings[kind]}
            path="settings"
            form={form}
            options={{ authorityId: of('authority'), credentialId: kind === 'opcua' ? of('certificate') : of('certificate', 'password') }}
            hide={(f) => hidden(kind, f, settings)}
            after={{
              ...adding.after,
              ...(kind === 'opcua' && {
                endpoint: (
                  <Offers
                    endpoint={String(settings.endpoint)}
                    onTake={(o) => {
                      form.setValue('settings.mode', o.mode, { shouldDirty: true })
                      form.setValue('settings.policy', o.policy, { shouldDirty: true, shouldValidate: true })
                      const login = o.logins.find((l) => l === settings.login) ?? o.logins.find((l) => l !== 'token')
                      if (login) form.setValue('settings.login', login, { shouldDirty: true, shouldValidate: true })
                    }}
                  />
                ),
              }),
              ...(secret && {
                [secret.after]: (
                  <TextField
                    label={secret.label}
                    type="password"
                    autoComplete="new-password"
                    placeholder={source?.hasPassword ? 'kept; type to replace' : ''}
                    help="Kept encrypted, never shown again"
                    error={formState.errors.password?.message as string | undefined}
                    {...register('password')}
                  />
                ),
              }),
            }}
          />
          <CheckField label="Switched on" {...register('enabled')} />
          {warning && (
            <div className="py-1 pl-[142px]">
              <WarnNote>{warning}</WarnNote>
            </div>
          )}
          <button type="submit" className="hidden" aria-hidden="true" tabIndex={-1} />
        </form>
        <div>
          {problem && (
            <div className="mb-3">
              <ProblemNote problem={problem} />
            </div>
          )}
          {server && (
            <ServerCertificate
              certificate={{
                thumbprint: server.serverThumbprint ?? '',
                subject: server.serverSubject ?? '',
                notBefore: server.serverFrom ?? '',
                notAfter: server.serverTo ?? '',
              }}
              trusted={String(settings.serverThumbprint ?? '')}
              refused={String(settings.refusedThumbprint ?? '')}
              onTrust={() => {
                decide(server.serverThumbprint ?? '', '')
                void runCheck()
              }}
              onRefuse={() => decide('', server.serverThumbprint ?? '')}
            />
          )}
          <CheckPanel check={check} onRun={() => void runCheck()} before={view.check} />
          {result && (
            <>
              <Heading>What came</Heading>
              <Pre label="What came" className="max-h-64 bg-sheet px-2 py-1.5 text-xs">
                {result}
              </Pre>
            </>
          )}
          {kind === 'opcua' && <OwnCertificate />}
          {kind === 'mqtt' && (
            <p className="mt-3 text-muted">
              Certificates and log-ins are kept under{' '}
              <a className="text-slate underline" href="/destinations/credentials">
                Credentials
              </a>
              .
            </p>
          )}
          {source && <UseNote source={source} />}
        </div>
      </div>
      {adding.dialog}
    </Modal>
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

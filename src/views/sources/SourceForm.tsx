import { zodResolver } from '@hookform/resolvers/zod'
import { useState } from 'react'
import { type FieldValues, type UseFormReturn, useForm } from 'react-hook-form'
import { OpcUaSettings, type Source, SourceDraft } from '~/contract/source'
import { Button } from '~/ui/Button'
import { CheckField, TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { Heading, type Problem, ProblemNote, WarnNote } from '~/ui/Notes'
import { call, failureIn, refresh, useCall } from '../app/api'
import { CheckPanel } from '../shared/CheckPanel'
import { SettingsForm, showFields } from '../shared/SettingsForm'
import { useCheck } from '../shared/Steps'

const fresh: SourceDraft = {
  name: '',
  kind: 'opcua',
  enabled: true,
  settings: {
    endpoint: 'opc.tcp://',
    mode: 'SignAndEncrypt',
    policy: 'Basic256Sha256',
    login: 'user',
    user: '',
    serverThumbprint: '',
    rateMs: 500,
    retryMs: 1000,
  },
}

/** Adds or edits a source; the check on the right tries what stands in the form, saved or not. */
export function SourceForm({ source, onClose, onSaved }: { source: Source | null; onClose(): void; onSaved(s: Source): void }) {
  const start = source
    ? { name: source.name, kind: source.kind, enabled: source.enabled, settings: { serverThumbprint: '', user: '', ...source.settings } }
    : fresh
  const form = useForm<FieldValues>({ defaultValues: start, resolver: zodResolver(SourceDraft) as never, mode: 'onChange' })
  const [problem, setProblem] = useState<Problem | null>(null)
  const [saving, setSaving] = useState(false)
  const check = useCheck('checkSource')
  const application = useCall('application')
  const { register, watch, formState } = form
  const mode = watch('settings.mode') as string
  const login = watch('settings.login') as string
  const passed = check.steps.length > 0 && check.steps.every((s) => s.state === 'passed')

  const draft = () => {
    const v = form.getValues()
    return { ...v, ...(v.password ? {} : { password: undefined }) } as SourceDraft
  }
  const runCheck = async () => {
    if (!(await form.trigger())) return
    const steps = await check.run({ ...draft(), ...(source && { id: source.id }) } as never)
    const thumbprint = steps.find((s) => s.facts?.serverThumbprint)?.facts?.serverThumbprint
    if (thumbprint && !form.getValues('settings.serverThumbprint') && steps.every((s) => s.state === 'passed'))
      form.setValue('settings.serverThumbprint', thumbprint, { shouldDirty: true })
  }
  const save = form.handleSubmit(async () => {
    setSaving(true)
    setProblem(null)
    try {
      const saved = source ? await call('changeSource', { params: { id: source.id }, body: draft() }) : await call('addSource', { body: draft() })
      await refresh('listSources')
      onSaved(saved)
    } catch (e) {
      const failure = failureIn(e)
      if (!showFields(form as UseFormReturn<FieldValues>, failure.fields)) setProblem(failure)
    } finally {
      setSaving(false)
    }
  })

  return (
    <Modal
      open
      onClose={onClose}
      width={900}
      title={source ? source.name : 'Add a source'}
      note="OPC UA over opc.tcp"
      foot={
        <>
          <span className="mr-auto text-muted">{passed ? 'The check passed.' : 'Saving is possible without a check.'}</span>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={saving} onClick={() => void save()}>
            {source ? 'Save' : 'Add source'}
          </Button>
        </>
      }
    >
      <div className="grid grid-cols-[1fr_330px] gap-6">
        <form onSubmit={(e) => void save(e)} aria-label="Source">
          <TextField
            label="Name"
            autoFocus
            placeholder="Kiln controller"
            error={formState.errors.name?.message as string | undefined}
            {...register('name')}
          />
          <SettingsForm
            schema={OpcUaSettings}
            path="settings"
            form={form}
            hide={(f) => (f === 'user' && login !== 'user') || (f === 'serverThumbprint' && mode === 'None')}
            after={{
              user: login === 'user' && (
                <TextField
                  label="Password"
                  type="password"
                  autoComplete="new-password"
                  placeholder={source?.hasPassword ? 'kept; type to replace' : ''}
                  help="Kept encrypted, never shown again"
                  error={formState.errors.password?.message as string | undefined}
                  {...register('password')}
                />
              ),
              policy: mode === 'None' && (
                <div className="py-1 pl-[142px]">
                  <WarnNote>Values and password cross the network open to everybody in between.</WarnNote>
                </div>
              ),
            }}
          />
          <CheckField label="Switched on" {...register('enabled')} />
          <button type="submit" className="hidden" aria-hidden="true" tabIndex={-1} />
        </form>
        <div>
          <CheckPanel
            check={check}
            onRun={() => void runCheck()}
            before="Tries, one after the other: name, port, secure channel, whether the server trusts Embrik, log-in, and a first read. Nothing is saved by it."
          />
          <Heading>Certificate of Embrik</Heading>
          <p className="text-muted">
            The server must trust it once. Its thumbprint:
            <code className="mt-1 block rounded-sm bg-well px-2 py-1 font-mono text-[12px] break-all text-ink select-all">
              {application.data?.thumbprint ?? '...'}
            </code>
          </p>
          {problem && (
            <div className="mt-3">
              <ProblemNote problem={problem} />
            </div>
          )}
        </div>
      </div>
    </Modal>
  )
}

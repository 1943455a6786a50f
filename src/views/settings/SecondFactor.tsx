import qrcode from 'qrcode-generator'
import { useState } from 'react'
import { toast } from 'sonner'
import { Button } from '~/ui/Button'
import { PasswordField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Modal } from '~/ui/Modal'
import { Heading, Loading } from '~/ui/Notes'
import { Time } from '~/ui/time'
import { call, refresh, useCall } from '../app/api'
import { Failed } from '../shared/Failed'
import { useFields } from '../shared/useFields'

/** A code that a device shows beside the password (RFC 6238): how it stands, and the way to it and out of it. */
export function SecondFactor() {
  const state = useCall('secondFactor')
  const [open, setOpen] = useState<'begin' | 'end' | null>(null)
  const on = state.data?.since ?? null
  return (
    <section className="pt-6" aria-label="Second factor">
      <Heading level={2}>Second factor</Heading>
      {state.isPending ? (
        <Loading rows={1} />
      ) : state.error ? (
        <Failed of={state} flush />
      ) : on === null ? (
        <div className="flex items-center gap-4">
          <p className="text-muted">None: your password alone lets somebody in. A code from a device of yours, new every 30 s, keeps others out.</p>
          <Button onClick={() => setOpen('begin')}>Set up a second factor</Button>
        </div>
      ) : (
        <div className="flex items-center gap-4">
          <p>
            A code from your device is asked for since <Time at={on} date />;{' '}
            <span className={state.data!.codesLeft < 3 ? 'text-uncertain' : ''}>
              {state.data!.codesLeft} recovery {state.data!.codesLeft === 1 ? 'code' : 'codes'} left
            </span>
            . For new ones end it and set it up again.
          </p>
          <Button onClick={() => setOpen('end')}>End second factor</Button>
        </div>
      )}
      {open === 'begin' && <Begin onClose={() => setOpen(null)} />}
      {open === 'end' && <End onClose={() => setOpen(null)} />}
    </section>
  )
}

/** Where the next thing is typed. */
const focusOnce = (box: HTMLInputElement | null) => box?.focus()

/** The key as a picture that a device reads. */
function KeyPicture({ uri }: { uri: string }) {
  const code = qrcode(0, 'M')
  code.addData(uri)
  code.make()
  const n = code.getModuleCount()
  const dark: string[] = []
  for (let y = 0; y < n; y++) for (let x = 0; x < n; x++) if (code.isDark(y, x)) dark.push(`M${x} ${y}h1v1h-1z`)
  return (
    <svg
      viewBox={`-4 -4 ${n + 8} ${n + 8}`}
      width={188}
      height={188}
      role="img"
      aria-label="The key, for the camera of your device"
      shapeRendering="crispEdges"
    >
      <rect x={-4} y={-4} width={n + 8} height={n + 8} fill="#fff" />
      <path d={dark.join('')} fill="#000" />
    </svg>
  )
}

/** What a stranger at an open session does not know. */
function OwnPassword({
  value,
  error,
  onChange,
  typed,
}: {
  value: string
  error: string | undefined
  onChange(text: string): void
  typed(field: string): void
}) {
  return (
    <PasswordField
      label="Your password"
      own
      value={value}
      error={error}
      onChange={(e) => {
        onChange(e.target.value)
        typed('password')
      }}
    />
  )
}

function Begin({ onClose }: { onClose(): void }) {
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const [made, setMade] = useState<{ secret: string; uri: string } | null>(null)
  const [codes, setCodes] = useState<string[] | null>(null)
  const { fields, busy, run, typed } = useFields()
  const next = () =>
    run(async () => {
      if (codes) return onClose()
      if (!made) return setMade(await call('beginSecondFactor', { body: { password } }))
      setCodes((await call('confirmSecondFactor', { body: { code } })).codes)
      await refresh('secondFactor', 'listSessions')
    })
  const copy = async () => {
    await navigator.clipboard.writeText(codes!.join('\n'))
    toast.success('The recovery codes are in the clipboard')
  }
  return (
    <Modal
      open
      onClose={onClose}
      title={codes ? 'Recovery codes' : 'Set up a second factor'}
      note={codes ? 'Shown this once. Each lets you in once, without your device.' : undefined}
      width={520}
      foot={
        <>
          {codes ? <Button onClick={() => void copy()}>Copy codes</Button> : <Button onClick={onClose}>Cancel</Button>}
          <Button kind="main" busy={busy} disabled={made ? code.trim() === '' && !codes : password === ''} onClick={() => void next()}>
            {codes ? 'I have kept them' : made ? 'Confirm code' : 'Show key'}
          </Button>
        </>
      }
    >
      <Form onSubmit={next}>
        {codes ? (
          <ul className="grid grid-cols-2 gap-x-8 gap-y-1 font-mono text-[14px]" aria-label="Recovery codes">
            {codes.map((c) => (
              <li key={c}>{c}</li>
            ))}
          </ul>
        ) : made ? (
          <div className="flex gap-5">
            <KeyPicture uri={made.uri} />
            <div className="min-w-0 flex-1">
              <p className="mb-2 text-muted">Let your device read this, or type the key into it:</p>
              <p className="mb-4 font-mono text-[12.5px] break-all" data-testid="key">
                {made.secret.match(/.{1,4}/g)!.join(' ')}
              </p>
              <label className="block">
                <span className="mb-1 block text-muted">The code that it shows now</span>
                <input
                  ref={focusOnce}
                  inputMode="numeric"
                  autoComplete="one-time-code"
                  value={code}
                  onChange={(e) => {
                    setCode(e.target.value)
                    typed('code')
                  }}
                  aria-invalid={fields.code !== undefined}
                  className={`h-9 w-40 rounded-sm border bg-sheet px-2.5 font-mono text-[16px] tracking-widest ${fields.code ? 'border-bad' : 'border-line'}`}
                />
                {fields.code && (
                  <span role="alert" className="block pt-1 text-xs text-bad">
                    {fields.code}. If none is taken, compare the clock of the device with that of the server.
                  </span>
                )}
              </label>
            </div>
          </div>
        ) : (
          <OwnPassword value={password} error={fields.password} onChange={setPassword} typed={typed} />
        )}
      </Form>
    </Modal>
  )
}

function End({ onClose }: { onClose(): void }) {
  const [password, setPassword] = useState('')
  const { fields, busy, run, typed } = useFields()
  const end = () =>
    run(async () => {
      await call('endSecondFactor', { body: { password } })
      await refresh('secondFactor')
      toast.success('Your password alone lets you in from now on')
      onClose()
    })
  return (
    <Modal
      open
      onClose={onClose}
      title="End second factor"
      note="Your password alone lets somebody in then. The recovery codes end too."
      width={460}
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={password === ''} onClick={() => void end()}>
            End second factor
          </Button>
        </>
      }
    >
      <Form onSubmit={end}>
        <OwnPassword value={password} error={fields.password} onChange={setPassword} typed={typed} />
      </Form>
    </Modal>
  )
}

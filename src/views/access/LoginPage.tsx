import { type ReactNode, useEffect, useState } from 'react'
import { signOnWords } from '~/contract/sign-on'
import { Button } from '~/ui/Button'
import { Form } from '~/ui/Form'
import { Mark } from '~/ui/Glyph'
import { type Problem, ProblemNote } from '~/ui/Notes'
import { call } from '../app/api'
import { useWork } from '../shared/useWork'

function Sheet({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="grid min-h-screen place-items-center p-6">
      <div className="w-[340px]">
        <div className="mb-6 flex items-center gap-3">
          <Mark size={38} />
          <span className="text-[24px] font-bold tracking-tight">embrik</span>
        </div>
        <h1 className="mb-3 text-[15px] font-semibold">{title}</h1>
        {children}
      </div>
    </div>
  )
}

function Box({ label, error, ...rest }: { label: string; error?: string | undefined } & React.InputHTMLAttributes<HTMLInputElement>) {
  return (
    <label className="mb-3 block">
      <span className="mb-1 block text-muted">{label}</span>
      <input required {...rest} className={`h-9 w-full rounded-sm border bg-sheet px-2.5 ${error ? 'border-bad' : 'border-line'}`} />
      {error && <span className="text-xs text-bad">{error}</span>}
    </label>
  )
}

/** Only pages of this site may be gone to after the log-in. */
function wanted(): string {
  const next = new URLSearchParams(location.search).get('next') ?? '/'
  const url = new URL(next, location.origin)
  // The whole address: a path that begins with two slashes would be another site's.
  return url.origin === location.origin ? url.href : '/'
}

/** Why somebody who logged in at the provider did not come in. */
function cameBackWith(): Problem | null {
  const code = new URLSearchParams(location.search).get('code') ?? ''
  return Object.hasOwn(signOnWords, code) ? { code, ...signOnWords[code]! } : null
}

export function LoginPage() {
  const [login, setLogin] = useState('')
  const [password, setPassword] = useState('')
  /** Of the second factor, once it was asked for. */
  const [code, setCode] = useState<string | null>(null)
  const { busy, problem, run } = useWork((failure) => {
    if (failure.code === 'access.second-factor' || failure.code === 'access.wrong-code') setCode('')
    // Asked for, it is no problem yet.
    return failure.code === 'access.second-factor'
  })
  const [begun, setBegun] = useState<Problem | null>(cameBackWith)
  const shown = problem ?? begun
  const [provider, setProvider] = useState<string | null>(null)
  useEffect(() => {
    void call('waysIn').then(
      (ways) => setProvider(ways.signOn),
      () => undefined,
    )
  }, [])
  const enter = () => {
    setBegun(null)
    return run(async () => {
      await call('logIn', { body: { login, password, ...(code !== null && { code }) } })
      await leaveFor(wanted())
    })
  }
  return (
    <Sheet title="Log in">
      <Form onSubmit={enter}>
        <Box label="Log-in" name="login" autoComplete="username" autoFocus value={login} onChange={(e) => setLogin(e.target.value)} />
        <Box
          label="Password"
          name="password"
          type="password"
          autoComplete="current-password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
        {code !== null && (
          <Box
            label="Code from your device, or a recovery code"
            name="code"
            inputMode="numeric"
            autoComplete="one-time-code"
            autoFocus
            value={code}
            onChange={(e) => setCode(e.target.value)}
          />
        )}
        {shown && (
          <div className="mb-3">
            <ProblemNote problem={shown} />
          </div>
        )}
        <Button kind="main" type="submit" busy={busy} className="h-9! w-full">
          Log in
        </Button>
      </Form>
      {provider !== null && (
        <a
          href={`/api/session/sign-on?${new URLSearchParams({ next: wanted() })}`}
          className="mt-3 grid h-9 w-full place-items-center rounded-sm border border-line bg-sheet font-semibold hover:border-muted"
        >
          Log in with {provider}
        </a>
      )}
    </Sheet>
  )
}

/** Goes to another page: what was asked for is under way until that is there. */
function leaveFor(href: string): Promise<never> {
  // A browser that brings this page back as it was would bring back what was typed and a button that is busy for ever.
  addEventListener('pageshow', (e) => e.persisted && location.reload())
  location.assign(href)
  return new Promise(() => undefined)
}

export function SetUpPage() {
  const [input, setInput] = useState({ token: '', name: '', login: '', password: '' })
  const [fields, setFields] = useState<Record<string, string>>({})
  const { busy, problem, run } = useWork(({ fields: refused }) => {
    if (refused) setFields(refused)
    return refused !== undefined
  })
  const set = (key: keyof typeof input) => (e: React.ChangeEvent<HTMLInputElement>) => setInput({ ...input, [key]: e.target.value })
  const make = () => {
    setFields({})
    return run(async () => {
      await call('setUp', { body: input })
      await call('logIn', { body: { login: input.login, password: input.password } })
      await leaveFor('/sources')
    })
  }
  return (
    <Sheet title="The first administrator">
      <p className="mb-3 text-muted">Nobody can log in yet. The set-up token stands in the log of the start command.</p>
      <Form onSubmit={make}>
        <Box label="Set-up token" name="token" autoFocus autoComplete="off" value={input.token} onChange={set('token')} error={fields.token} />
        <Box label="Your name" name="name" autoComplete="name" value={input.name} onChange={set('name')} error={fields.name} />
        <Box label="Log-in" name="login" autoComplete="username" value={input.login} onChange={set('login')} error={fields.login} />
        <Box
          label="Password, at least 10 characters"
          name="password"
          type="password"
          autoComplete="new-password"
          value={input.password}
          onChange={set('password')}
          error={fields.password}
        />
        {problem && (
          <div className="mb-3">
            <ProblemNote problem={problem} />
          </div>
        )}
        <Button kind="main" type="submit" busy={busy} className="h-9! w-full">
          Begin
        </Button>
      </Form>
    </Sheet>
  )
}

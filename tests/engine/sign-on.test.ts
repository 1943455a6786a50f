// People who log in at a provider: the whole way, against a stand-in that checks what it is sent and can say wrong things.
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import { FailureError } from '~/contract/failure'
import { roleOf, SignOn, signOnSettings } from '~/server/sign-on'
import { startProvider } from '~/standins/sign-on/provider'
import { addPerson, listPeople, logIn, sessionCaller, signOn } from '~/store/person'
import { freshDatabase } from './support'

const BACK = 'http://127.0.0.1:4600/api/session/sign-on/back'
let t: Awaited<ReturnType<typeof freshDatabase>>
let provider: Awaited<ReturnType<typeof startProvider>>
let now = Date.now()
let way: SignOn

const settings = (more: Record<string, string> = {}) =>
  signOnSettings({
    EMBRIK_SIGN_ON_ISSUER: provider.issuer,
    EMBRIK_SIGN_ON_CLIENT: 'embrik',
    EMBRIK_SIGN_ON_SECRET: 'clay-secret-9',
    EMBRIK_SIGN_ON_ROLES: 'works-admins=administrator, kiln-team=engineer',
    EMBRIK_SIGN_ON_CLAIM: 'groups',
    ...more,
  })!
const ines = { sub: 'u-1', name: 'Ines Rook', preferred_username: 'ines.rook@varnmoor.example', groups: ['kiln-team', 'others'] }
/** To the provider and back, as a browser goes. */
async function there(next = '/tags') {
  const { url, kept } = await way.begin(BACK, next)
  const answer = await fetch(url, { redirect: 'manual' })
  return { at: new URL(answer.headers.get('location')!), kept, url }
}
const failure = async (work: Promise<unknown>) => {
  const e = await work.then(
    () => null,
    (x: unknown) => x,
  )
  expect(e).toBeInstanceOf(FailureError)
  return (e as FailureError).failure
}

beforeAll(async () => {
  t = await freshDatabase()
  provider = await startProvider({ id: 'embrik', secret: 'clay-secret-9' })
})
beforeEach(() => {
  provider.state.person = ines
  provider.state.faults = {}
  now = Date.now()
  way = new SignOn(settings(), t.vault, () => now)
})
afterAll(async () => {
  await provider?.stop()
  await t?.drop()
})

describe('the way there and back', () => {
  it('asks with state, nonce and a challenge of its own each time, and comes back with who it is', async () => {
    const { at, kept, url } = await there()
    const q = url.searchParams
    expect(Object.fromEntries(q)).toMatchObject({ response_type: 'code', client_id: 'embrik', redirect_uri: BACK, code_challenge_method: 'S256' })
    const other = (await there()).url.searchParams
    for (const key of ['state', 'nonce', 'code_challenge']) {
      expect(q.get(key)!.length).toBeGreaterThanOrEqual(40)
      expect(q.get(key)).not.toBe(other.get(key))
    }
    expect(await way.end(at, kept)).toEqual({
      issuer: provider.issuer,
      subject: 'u-1',
      name: 'Ines Rook',
      login: 'ines.rook@varnmoor.example',
      role: 'engineer',
      next: '/tags',
    })
    // What is kept in the browser tells nothing, and a code is good once.
    expect(Buffer.from(kept, 'base64url').toString('latin1')).not.toContain(q.get('state')!)
    expect((await failure(way.end(at, kept))).code).toBe('sign-on.refused')
  })

  it('what was not begun in this browser, or long ago, or was altered, is nothing', async () => {
    const one = await there()
    const two = await there()
    expect((await failure(way.end(one.at, null))).code).toBe('sign-on.begun')
    expect((await failure(way.end(one.at, `${one.kept.slice(0, -4)}AAAA`))).code).toBe('sign-on.begun')
    expect((await failure(way.end(one.at, two.kept))).code).toBe('sign-on.refused')
    now += 601_000
    expect((await failure(way.end(two.at, two.kept))).code).toBe('sign-on.begun')
  })

  it.each([
    ['the person says no', { denies: true }],
    ['its word is signed by somebody else', { foreignKey: true }],
    ['its word is for another client', { says: { aud: 'another' } }],
    ['its word is of another provider', { says: { iss: 'https://elsewhere.example' } }],
    ['its word answers another question', { says: { nonce: 'x' } }],
    ['its word is over', { says: { exp: 1_700_000_000 } }],
    ['its word names nobody', { says: { sub: undefined } }],
  ])('nobody comes in when %s', async (_, faults) => {
    provider.state.faults = faults
    const { at, kept } = await there()
    const f = await failure(way.end(at, kept))
    expect(f.code).toBe('sign-on.refused')
    expect(f.message).not.toMatch(/invalid_(client|grant)/)
    expect(JSON.stringify(f)).not.toContain('clay-secret-9')
  })

  it('nobody comes in without a role here, or with a wrong secret of ours', async () => {
    provider.state.person = { ...ines, groups: ['others'] }
    const { at, kept } = await there()
    expect((await failure(way.end(at, kept))).code).toBe('sign-on.role')
    way = new SignOn(settings({ EMBRIK_SIGN_ON_SECRET: 'guess' }), t.vault)
    const again = await there()
    expect((await failure(way.end(again.at, again.kept))).code).toBe('sign-on.refused')
  })

  it('a provider that is away is told as such, and asked again the next time', async () => {
    const gone = await startProvider({ id: 'embrik', secret: 'x' })
    await gone.stop()
    way = new SignOn(settings({ EMBRIK_SIGN_ON_ISSUER: gone.issuer }), t.vault)
    expect((await failure(way.begin(BACK, '/'))).code).toBe('sign-on.away')
    expect((await failure(way.begin(BACK, '/'))).code).toBe('sign-on.away')
  })

  it('what it says of itself is asked for once in ten minutes', async () => {
    const count = () => provider.state.asked.filter((p) => p.startsWith('/.well-known')).length
    const before = count()
    await there()
    await there()
    expect(count()).toBe(before + 1)
    now += 601_000
    await there()
    expect(count()).toBe(before + 2)
  })
})

describe('who comes in', () => {
  const who = {
    issuer: 'https://login.varnmoor.example',
    subject: 'u-7',
    name: 'Tam Birch',
    login: 'tam.birch@varnmoor.example',
    role: 'operator' as const,
  }

  it('is made once, with a free log-in, and is the same person whatever they are called later', async () => {
    await addPerson(t.db, { name: 'Another Tam', login: 'tam.birch', role: 'administrator', password: 'three words at noon' })
    const [a, b] = await Promise.all([signOn(t.db, who, '10.0.0.1'), signOn(t.db, who, null)])
    expect(a.person.id).toBe(b.person.id)
    // Never somebody who is there already: a name elsewhere proves nothing here.
    expect(a.person).toMatchObject({ login: 'tam.birch-2', role: 'operator' })
    expect((await sessionCaller(t.db, a.token))?.caller).toMatchObject({ name: 'Tam Birch', role: 'operator' })
    const later = await signOn(t.db, { ...who, name: 'Tam Birch-Rook', login: 'x', role: 'engineer' }, null)
    expect(later.person).toMatchObject({ id: a.person.id, name: 'Tam Birch-Rook', login: 'tam.birch-2', role: 'engineer' })
    // With another role the sessions of before end.
    expect(await sessionCaller(t.db, a.token)).toBeNull()
    expect((await listPeople(t.db)).filter((p) => p.name.startsWith('Tam Birch'))).toHaveLength(1)
  })

  it('the same subject of another provider is somebody else', async () => {
    const other = await signOn(t.db, { ...who, issuer: 'https://elsewhere.example' }, null)
    expect(other.person.login).toBe('tam.birch-3')
  })

  it('has no password that anybody knows', async () => {
    for (const guess of ['', who.subject, who.login]) expect(await logIn(t.db, 'tam.birch-2', guess, null)).toBeNull()
  })
})

describe('settings', () => {
  const base = { EMBRIK_SIGN_ON_ISSUER: 'https://login.varnmoor.example', EMBRIK_SIGN_ON_CLIENT: 'embrik', EMBRIK_SIGN_ON_ROLES: '*=viewer' }
  it.each([
    [{ EMBRIK_SIGN_ON_ISSUER: 'varnmoor' }, 'is no address'],
    [{ EMBRIK_SIGN_ON_ISSUER: 'http://login.varnmoor.example' }, 'must be https'],
    [{ EMBRIK_SIGN_ON_CLIENT: '' }, 'client id'],
    [{ EMBRIK_SIGN_ON_ROLES: '' }, 'who gets which role'],
    [{ EMBRIK_SIGN_ON_ROLES: 'kiln-team=chief' }, 'kiln-team=chief is not like'],
  ])('%j is told: %s', (more, words) => expect(() => signOnSettings({ ...base, ...more })).toThrow(words))

  it('without a provider there is none', () => expect(signOnSettings({})).toBeNull())

  it('the highest of the roles counts; anybody may have one; names with dots and nested ones are found', () => {
    const of = (claim: string, roles: string) => signOnSettings({ ...base, EMBRIK_SIGN_ON_CLAIM: claim, EMBRIK_SIGN_ON_ROLES: roles })!
    expect(roleOf({ roles: ['a', 'b'] }, of('roles', 'a=viewer,b=administrator,c=engineer'))).toBe('administrator')
    expect(roleOf({ roles: 'a c' }, of('roles', 'a=viewer,c=engineer'))).toBe('engineer')
    expect(roleOf({}, of('roles', 'a=engineer,*=viewer'))).toBe('viewer')
    expect(roleOf({ realm: { roles: ['a'] } }, of('realm.roles', 'a=operator'))).toBe('operator')
    expect(roleOf({ 'https://varnmoor.example/roles': ['a'] }, of('https://varnmoor.example/roles', 'a=operator'))).toBe('operator')
    expect(roleOf({ roles: [7, null, { a: 1 }] }, of('roles', 'a=engineer'))).toBeNull()
    expect(roleOf({}, of('constructor.name', 'Object=administrator'))).toBeNull()
  })
})

describe('over the web server', () => {
  const web = 'http://127.0.0.1:4600'
  let ask: (path: string, cookie?: string) => Promise<Response>
  beforeAll(async () => {
    Object.assign(process.env, {
      DATABASE_URL: t.url,
      EMBRIK_MASTER_KEY: 'ab'.repeat(32),
      EMBRIK_SIGN_ON_ISSUER: provider.issuer,
      EMBRIK_SIGN_ON_CLIENT: 'embrik',
      EMBRIK_SIGN_ON_SECRET: 'clay-secret-9',
      EMBRIK_SIGN_ON_ROLES: 'kiln-team=engineer',
      EMBRIK_SIGN_ON_CLAIM: 'groups',
      EMBRIK_SIGN_ON_NAME: 'Varnmoor account',
    })
    const { handlers } = await import('~/server/api/handlers')
    const { dispatch } = await import('~/server/endpoint')
    const { callerOf } = await import('~/server/session')
    ask = async (path, cookie) => {
      const request = new Request(web + path, cookie === undefined ? {} : { headers: { cookie } })
      const { caller, token } = await callerOf(request)
      return dispatch(handlers, request, { caller, token, address: '10.0.0.5' })
    }
  })
  const cookieOf = (r: Response, name: string) => r.headers.getSetCookie().find((c) => c.startsWith(`${name}=`)) ?? ''
  const value = (cookie: string) => cookie.split(';')[0]!
  const go = async (next: string) => {
    const begun = await ask(`/api/session/sign-on?next=${encodeURIComponent(next)}`)
    expect(begun.status).toBe(302)
    const kept = cookieOf(begun, 'embrik_sign_on')
    expect(kept).toContain('HttpOnly; SameSite=Lax; Max-Age=600')
    const answer = await fetch(begun.headers.get('location')!, { redirect: 'manual' })
    const back = new URL(answer.headers.get('location')!)
    return { back: back.pathname + back.search, kept: value(kept) }
  }

  it('somebody goes there, comes back into a session, and is told in the audit', async () => {
    expect(await (await ask('/api/session/ways')).json()).toEqual({ signOn: 'Varnmoor account' })
    const { back, kept } = await go('/tags?q=kiln')
    const inside = await ask(back, kept)
    expect([inside.status, inside.headers.get('location')]).toEqual([302, '/tags?q=kiln'])
    expect(cookieOf(inside, 'embrik_sign_on')).toContain('Max-Age=0')
    const session = value(cookieOf(inside, 'embrik_session'))
    expect(await (await ask('/api/session', session)).json()).toMatchObject({ name: 'Ines Rook', role: 'engineer' })
    const row = await t.db.selectFrom('audit').selectAll().where('via', '=', 'sign-on').executeTakeFirstOrThrow()
    expect(row).toMatchObject({ who: 'Ines Rook', act: 'logIn', address: '10.0.0.5' })
  })

  it('and is led to no other site by it', async () => {
    for (const next of ['//elsewhere.example/x', 'https://elsewhere.example', 'javascript:alert(1)', '/\\\\elsewhere.example']) {
      const { back, kept } = await go(next)
      expect((await ask(back, kept)).headers.get('location'), next).toMatch(/^\/(?![/\\])/)
    }
  })

  it('what goes wrong leads back to the log-in with a word of ours, never with one from outside', async () => {
    provider.state.faults = { denies: true }
    const { back, kept } = await go('/')
    const out = await ask(`${back}&error_description=call%20555`, kept)
    expect([out.status, out.headers.get('location')]).toEqual([302, '/login?code=sign-on.refused'])
    expect(cookieOf(out, 'embrik_session')).toBe('')
    expect((await ask('/api/session/sign-on/back?code=x&state=y')).headers.get('location')).toBe('/login?code=sign-on.begun')
  })
})

import { FailureError, fail } from '~/contract/failure'
import type { Caller } from '~/contract/person'
import { addAudit, auditAfter, listAudit } from '~/store/audit'
import {
  addKey,
  addPerson,
  changePassword,
  changePerson,
  endSession,
  keyOwner,
  listKeys,
  listPeople,
  listSessions,
  logIn,
  logOut,
  removeKey,
  removePerson,
  setUp,
  signOn as signOnPerson,
} from '~/store/person'
import { beginSecondFactor, confirmSecondFactor, endSecondFactor, passesSecondFactor, resetSecondFactor, secondFactorOf } from '~/store/second-factor'
import { database, secrets } from '../context'
import type { Handlers } from '../endpoint'
import { openapi } from '../openapi'
import { deviceCookie, deviceToken, keptSignOn, overTls, sessionCookie, signOnCookie } from '../session'
import { SignOn, signOnSettings } from '../sign-on'
import { whileAllowed } from '../streams'

type Keys =
  | 'logIn'
  | 'logOut'
  | 'whoAmI'
  | 'setUp'
  | 'openapi'
  | 'listPeople'
  | 'addPerson'
  | 'changePerson'
  | 'removePerson'
  | 'listKeys'
  | 'addKey'
  | 'removeKey'
  | 'changePassword'
  | 'waysIn'
  | 'beginSignOn'
  | 'endSignOn'
  | 'secondFactor'
  | 'beginSecondFactor'
  | 'confirmSecondFactor'
  | 'endSecondFactor'
  | 'resetSecondFactor'
  | 'listSessions'
  | 'endSession'
  | 'listAudit'
  | 'exportAudit'

let document: object | null = null

let way: SignOn | null | undefined
/** The provider at which people log in; null: there is none. */
function signOn(): SignOn | null {
  if (way === undefined) {
    const settings = signOnSettings(process.env)
    way = settings && new SignOn(settings, secrets())
  }
  return way
}

const BACK = '/api/session/sign-on/back'
/** Where the provider sends browsers back to: this server under the name by which it was called. */
function backAddress(request: Request): string {
  const url = new URL(BACK, request.url)
  if (overTls(request)) url.protocol = 'https:'
  return url.href
}

function away(headers: Headers, to: string): Response {
  headers.set('location', to)
  return new Response(null, { status: 302, headers })
}

/** Only pages of this site may be gone to after the log-in. */
function within(request: Request, next: string): string {
  const url = URL.canParse(next, request.url) ? new URL(next, request.url) : null
  return url && url.origin === new URL(request.url).origin ? url.pathname + url.search + url.hash : '/'
}

/** What went wrong on the way is told where people log in. */
function backToLogIn(headers: Headers, e: unknown): Response {
  if (!(e instanceof FailureError)) throw e
  const { code, message } = e.failure
  console.error(`web: sign-on: ${code}: ${message}`)
  return away(headers, `/login?${new URLSearchParams({ code })}`)
}

/** Only people have a password and sessions. */
function person(caller: Caller): string {
  if (caller.kind !== 'person')
    throw fail(409, 'access.person', 'Only a person has a password and sessions', 'Log in instead of sending a key', 'web')
  return caller.id
}

/** So many rows are read at once. */
const PAGE = 1000

/** The whole audit, the oldest first, read as fast as it is taken. */
function auditLines(): ReadableStream<Uint8Array> {
  const text = new TextEncoder()
  let after = 0
  return new ReadableStream({
    async pull(out) {
      const rows = await auditAfter(database(), after, PAGE)
      if (rows.length === 0) return out.close()
      after = rows.at(-1)!.id
      out.enqueue(text.encode(rows.map((r) => `${JSON.stringify(r)}\n`).join('')))
    },
  })
}

export const accessHandlers: Pick<Handlers, Keys> = {
  logIn: async ({ body, address, headers, request }) => {
    const code = body.code?.trim() ?? ''
    let asked = false
    const session = await logIn(database(), body.login, body.password, address, {
      device: deviceToken(request),
      secondFactor: async (who) => {
        asked = who.totp !== null
        return !asked || (code !== '' && (await passesSecondFactor(database(), secrets(), who, code)))
      },
    })
    if (!session && asked && code === '')
      throw fail(401, 'access.second-factor', 'The code of your second factor', 'It stands on your device, new every 30 s', 'web')
    if (!session && asked)
      throw fail(
        401,
        'access.wrong-code',
        'This is not the code of this moment',
        'Each is taken once. Take the next one, or one of your recovery codes',
        'web',
      )
    if (!session) throw fail(401, 'access.refused', 'Log-in or password is wrong', 'Mind upper and lower case in the password', 'web')
    headers.append('set-cookie', sessionCookie(session.token, session.expires, overTls(request)))
    headers.append('set-cookie', deviceCookie(session.device, overTls(request)))
    return session.person
  },
  waysIn: async () => ({ signOn: signOn()?.settings.label ?? null }),
  beginSignOn: async ({ query, request, headers }) => {
    const provider = signOn()
    if (!provider) throw fail(404, 'sign-on.none', 'People log in with a password here', 'Go to the log-in page', 'web')
    try {
      const { url, kept } = await provider.begin(backAddress(request), query.next)
      headers.append('set-cookie', signOnCookie(kept, overTls(request)))
      return away(headers, url.href)
    } catch (e) {
      return backToLogIn(headers, e)
    }
  },
  endSignOn: async ({ request, headers, address }) => {
    const provider = signOn()
    if (!provider) throw fail(404, 'sign-on.none', 'People log in with a password here', 'Go to the log-in page', 'web')
    headers.append('set-cookie', signOnCookie(null, overTls(request)))
    try {
      const at = new URL(backAddress(request))
      at.search = new URL(request.url).search
      const who = await provider.end(at, keptSignOn(request))
      const session = await signOnPerson(database(), who, address)
      const { id, name, role } = session.person
      await addAudit(database(), {
        ...{ who: name, whoId: id, via: 'sign-on', address, act: 'logIn', subjectKind: 'session', subjectId: null, subject: name },
        ...{ before: null, after: { role, provider: who.issuer } },
      })
      headers.append('set-cookie', sessionCookie(session.token, session.expires, overTls(request)))
      return away(headers, within(request, who.next))
    } catch (e) {
      return backToLogIn(headers, e)
    }
  },
  logOut: async ({ token, headers, request }) => {
    if (token) await logOut(database(), token)
    headers.append('set-cookie', sessionCookie('gone', new Date(0), overTls(request)))
  },
  whoAmI: async ({ caller }) => caller,
  setUp: ({ body, address }) => setUp(database(), body, address),
  openapi: async () => (document ??= openapi()),
  listPeople: () => listPeople(database()),
  addPerson: ({ body }) => addPerson(database(), body),
  changePerson: ({ params, body }) => changePerson(database(), params.id!, body),
  removePerson: ({ params }) => removePerson(database(), params.id!),
  listKeys: () => listKeys(database()),
  // Who answers for a key answers for those that are made with it.
  addKey: async ({ body, caller }) => addKey(database(), body, caller.kind === 'person' ? caller.id : await keyOwner(database(), caller.id)),
  changePassword: ({ body, caller, token }) => changePassword(database(), person(caller), body.current, body.next, token),
  secondFactor: async ({ caller }) => (caller.kind === 'person' ? secondFactorOf(database(), caller.id) : { since: null, codesLeft: 0 }),
  beginSecondFactor: ({ caller, body }) => beginSecondFactor(database(), secrets(), person(caller), body.password),
  confirmSecondFactor: async ({ caller, body, token }) => ({
    codes: await confirmSecondFactor(database(), secrets(), person(caller), body.code, token),
  }),
  endSecondFactor: ({ caller, body }) => endSecondFactor(database(), person(caller), body.password),
  resetSecondFactor: ({ params }) => resetSecondFactor(database(), params.id!),
  listSessions: async ({ caller, token }) => (caller.kind === 'person' ? listSessions(database(), caller.id, token) : []),
  endSession: ({ caller, params }) => endSession(database(), person(caller), params.id!),
  listAudit: ({ query }) => listAudit(database(), query),
  exportAudit: async ({ request, caller }) =>
    new Response(whileAllowed(auditLines(), request, caller), {
      headers: { 'content-type': 'application/x-ndjson', 'cache-control': 'no-store', 'content-disposition': 'attachment; filename="audit.ndjson"' },
    }),
  removeKey: ({ params }) => removeKey(database(), params.id!),
}

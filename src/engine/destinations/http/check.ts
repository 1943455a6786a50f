import { webAddress } from '~/contract/destinations/http'
import type { CheckStep } from '~/contract/failure'
import { fail } from '~/contract/failure'
import { httpDate } from '~/core/value/http-date'
import { realClock } from '../../clock/real-clock'
import { reachSteps, runSteps, type StepPlan } from '../../net/steps'
import { tlsGreeting } from '../../net/tls-greeting'
import { failureOfWeb } from '../../net/web-failure'
import type { PlannedSend } from '../driver'
import { type HttpTarget, senderUser, sessionOf, type WebUser, witnessUser } from './access'
import { meaningOf, reasonIn } from './answers'
import { keptIn } from './far-end'
import { greet, portOf, urlOf } from './sender'

/** A check waits so long for an answer at most, ms. */
const ANSWER_MS = 8000
/** So many paths are asked at most. */
const PATHS = 20
const OFF_BY_MS = 2000

async function withSession<T>(user: WebUser, work: (session: ReturnType<typeof sessionOf>) => Promise<T>): Promise<T> {
  const session = sessionOf({ ...user, answerMs: ANSWER_MS }, realClock)
  try {
    return await work(session)
  } finally {
    session.close()
  }
}

/** How far its clock is from ours, by the date of an answer (RFC 9110 6.6.1), in words; empty: it tells none, or is right to two seconds. */
function clockWords(date: string | undefined): string {
  const theirs = httpDate(date ?? '')
  const off = Number.isFinite(theirs) ? theirs - realClock.wall() : 0
  return Math.abs(off) <= OFF_BY_MS ? '' : `; its clock is ${Math.round(Math.abs(off) / 1000)} s ${off > 0 ? 'ahead' : 'behind'}`
}

/** Whether the paths of its publications are there and ours, by a question that changes nothing. */
async function pathsAnswer(target: HttpTarget, base: URL, sends: readonly PlannedSend[]): Promise<string> {
  const paths = [...new Set(sends.map((s) => s.topic))].slice(0, PATHS)
  return withSession(senderUser(target), async (session) => {
    const silent: string[] = []
    for (const path of paths) {
      const url = urlOf(base, path)
      const answer = await greet(session, url)
      const { status } = answer
      if (status === 401 || status === 403 || status === 404 || status === 407 || status === 410) {
        const { failure } = meaningOf(answer, url.pathname, reasonIn(answer.body.toString('utf8')))
        throw fail(502, failure.code, failure.message, failure.hint, 'destination')
      }
      const allowed = answer.headers.allow?.toUpperCase()
      if (status >= 400 || allowed === undefined) silent.push(url.pathname)
    }
    const all = `${paths.length === 1 ? paths[0] : `${paths.length} paths`} may be asked for`
    return silent.length === 0 ? all : `${all}; whether they take messages shows with the first one: the server does not tell (OPTIONS)`
  })
}

async function readsBack(target: HttpTarget): Promise<string> {
  const { settings: s } = target
  return withSession(witnessUser(target), async (session) => {
    const url = new URL(s.readUrl.replaceAll('{cursor}', ''))
    const headers = { accept: 'application/json', ...(await session.authorization()) }
    const answer = await session.web.send({ method: 'GET', url, headers, body: null, most: 8 << 20 })
    if (answer.status !== 200) {
      const { failure } = meaningOf(answer, url.pathname, reasonIn(answer.body.toString('utf8')))
      throw fail(502, failure.code, failure.message, failure.hint, 'witness')
    }
    const { items, next } = keptIn(answer.body, answer.cut, s)
    if (items.length > 0 && items.every((i) => i.id === null) && s.readId !== '')
      throw fail(
        502,
        'http.read-form',
        `None of ${items.length} that are kept has an id at ${s.readId}`,
        'Correct where the id lies, or read by path and payload',
        'witness',
      )
    return `${items.length} kept in the first answer${next === null ? '' : ', and where to go on'}`
  })
}

/** Tries everything in order, the witness too; sends and saves nothing. */
export async function* checkHttp(target: HttpTarget, sends: readonly PlannedSend[]): AsyncGenerator<CheckStep> {
  const base = webAddress(target.settings.url)!
  const host = base.hostname.replace(/^\[|\]$/g, '')
  const secure = base.protocol === 'https:'
  const user = senderUser(target)
  const explain = (url: URL) => (e: unknown) => failureOfWeb(e, url)
  const steps: StepPlan[] = [
    ...reachSteps(host, portOf(base), 'destination'),
    ...(secure ? [{ key: 'tls', label: 'TLS', run: () => tlsGreeting(host, portOf(base), null, user.tls ?? {}) }] : []),
    ...(user.oauth
      ? [
          {
            key: 'token',
            label: 'Token',
            run: () =>
              withSession(user, async (session) => `${user.oauth!.url.host} gives one, ${(await session.tokens!.current()).length} characters`),
          },
        ]
      : []),
    {
      key: 'answer',
      label: 'Answer',
      run: () =>
        withSession(user, async (session) => {
          const began = realClock.mono()
          const answer = await greet(session, base)
          if (answer.status === 401 || answer.status === 407) {
            const { failure } = meaningOf(answer, base.pathname, reasonIn(answer.body.toString('utf8')))
            throw fail(502, failure.code, failure.message, failure.hint, 'destination')
          }
          const ms = Math.max(1, Math.round(realClock.mono() - began))
          const open = secure ? '' : '; without TLS: anybody in between can read and change messages'
          return `answers in ${ms} ms${open}${clockWords(answer.headers.date)}`
        }),
    },
    ...(sends.length > 0 ? [{ key: 'paths', label: 'Paths', run: () => pathsAnswer(target, base, sends) }] : []),
    ...(target.settings.witness
      ? [
          {
            key: 'witness',
            label: 'Witness',
            run: () => readsBack(target),
            explain: (e: unknown) => ({ ...failureOfWeb(e, new URL(target.settings.readUrl.replaceAll('{cursor}', ''))), where: 'witness' as const }),
          },
        ]
      : []),
  ]
  yield* runSteps(steps, explain(base))
}

import { webAddress } from '~/contract/destinations/http'
import { FailureError, fail } from '~/contract/failure'
import type { OwnView } from '~/contract/own-view'
import { ownViewOf } from '~/core/hub/own-view'
import { filledFor } from '~/core/hub/profile'
import { isoOf } from '~/core/value/iso-time'
import type { Clock } from '../../clock/clock'
import { trusted } from '../../net/peer-certificate'
import { Web, type WebAnswer } from '../../net/web'
import { failureOfWeb } from '../../net/web-failure'
import type { DestinationTarget } from '../driver'
import { unitOf } from './targets'

const ANSWER_MS = 8000
const ANSWER_MOST = 1 << 20

/** Asks the registry of a hub what it knows of this unit; rejects with a FailureError that says why not. */
export async function askRegistry(target: DestinationTarget<'hub'>, clock: Clock): Promise<OwnView> {
  const { settings, more } = target
  const base = webAddress(settings.registryUrl)
  const { registryPath, logPath } = settings.profile
  if (!base || registryPath === '')
    throw fail(
      409,
      'hub.registry-none',
      'Nobody says where this hub can be asked',
      'Name its registry in the destination, and the path in its profile',
      'destination',
    )
  const authority = more?.registryAuthorityId?.certificate
  const login = more?.registryCredentialId
  const web = new Web({ tls: authority ? trusted(authority) : null, answerMs: ANSWER_MS, parallel: 2 }, clock)
  const headers = {
    accept: 'application/json',
    ...(login && { authorization: `Basic ${Buffer.from(`${login.user ?? ''}:${login.secret ?? ''}`).toString('base64')}` }),
  }
  const ask = async (path: string) => {
    const url = new URL(`${base.origin}${base.pathname.replace(/\/$/, '')}${path.startsWith('/') ? '' : '/'}${path}`)
    let answer: WebAnswer
    try {
      answer = await web.send({ method: 'GET', url, headers, body: null, most: ANSWER_MOST })
    } catch (e) {
      throw new FailureError(failureOfWeb(e, url), 502)
    }
    return said(answer, url)
  }
  const of = unitOf(target)
  const inPath = { ...of, unit: encodeURIComponent(of.unit) }
  try {
    const unit = await ask(filledFor(registryPath, inPath))
    const log = logPath === '' ? null : await ask(filledFor(logPath, inPath))
    return ownViewOf(settings.profile, { unit, log }, isoOf(clock.wall()))
  } finally {
    web.close()
  }
}

function said({ status, body, cut }: WebAnswer, url: URL): unknown {
  const no = (code: string, words: string, hint: string) =>
    fail(502, `hub.registry-${code}`, `${url.host}${url.pathname}: ${words}`, hint, 'destination')
  if (status === 401 || status === 403) throw no('login', 'the registry does not let us look', 'Check the registry log-in of the destination')
  if (status === 404) throw no('unknown', 'the registry knows no such unit', 'Check the device identity, and the path in the profile')
  if (status !== 200) throw no('failed', `the registry answered ${status}`, status >= 500 ? 'Try again; look at its log' : 'Check its address')
  if (cut) throw no('large', `its answer has more than ${ANSWER_MOST} octets`, 'Have the path in the profile ask for less')
  try {
    return JSON.parse(body.toString('utf8')) as unknown
  } catch {
    throw no('form', 'the registry does not answer by JSON', 'Check its address, and the path in the profile')
  }
}

import { FailureError } from '~/contract/failure'
import { unpackProperties } from '~/core/delivery/properties'
import { failureOfWeb } from '../../net/web-failure'
import type { DestinationDriver } from '../driver'
import { senderUser, sessionOf, witnessUser } from './access'
import { checkHttp } from './check'
import { HttpFarEnd } from './far-end'
import { HttpSender } from './sender'

/** Web servers that take messages by requests. */
export const httpDriver: DestinationDriver<'http'> = {
  keepsOnce: true,
  carriesId: ({ readId }) => readId !== '',
  protection: ({ settings: s }) =>
    [
      s.url.startsWith('https:') ? (s.loginBy === 'certificate' ? 'TLS, client certificate' : 'TLS') : 'without TLS',
      ...(s.loginBy === 'none' || s.loginBy === 'certificate' ? [] : [s.loginBy]),
    ].join(', '),
  rights: (_settings, reads) => `of its log-in to send to ${reads[0] ?? 'its paths'}, or of its witness to read back`,
  within: ({ topic, properties }) => `${topic} ${properties}`,
  manner: ({ properties }) => unpackProperties(properties).how ?? '',
  described: ({ topic, properties }) => `/${topic.replace(/^\//, '').slice(0, 200)} (${unpackProperties(properties).how ?? 'POST'})`,
  dislikes: 'look at the log of the server, at the path, headers and size',
  sameSender: (a, b) => JSON.stringify([senderUser(a), howOf(a.settings)]) === JSON.stringify([senderUser(b), howOf(b.settings)]),
  sameWitness: (a, b) => JSON.stringify([witnessUser(a), readOf(a.settings)]) === JSON.stringify([witnessUser(b), readOf(b.settings)]),
  check: (target, { sends }) => checkHttp(target, sends),
  farEnd: (target, sink, clock) => new HttpFarEnd(witnessUser(target), target.settings, sink, clock),
  async open(target, { sink, clock, remembered }) {
    const session = sessionOf(senderUser(target), clock)
    try {
      return await HttpSender.begin(session, target.settings, sink, clock, remembered)
    } catch (e) {
      session.close()
      throw e instanceof FailureError ? e : new FailureError(failureOfWeb(e, new URL(target.settings.url)), 502)
    }
  },
}

type Settings = Parameters<typeof httpDriver.carriesId>[0]

function howOf(s: Settings) {
  const { url, redirects, batch, batchMost, batchKb, lingerMs, answersAt, answerStatus, answerReason, compression, parallel, window } = s
  return { url, redirects, batch, batchMost, batchKb, lingerMs, answersAt, answerStatus, answerReason, compression, parallel, window }
}

function readOf(s: Settings) {
  const { readUrl, readItems, readCursor, readId, readPlace, readPayload, readBase64, readEveryMs } = s
  return { readUrl, readItems, readCursor, readId, readPlace, readPayload, readBase64, readEveryMs }
}

import { FailureError } from '~/contract/failure'
import type { PeerTime } from '~/core/proof/peer-time'
import { leavesOf } from '~/core/source/json-leaf'
import { exactJson } from '~/core/value/exact-json'
import { reachSteps, runSteps } from '../../net/steps'
import { browseDocument } from '../document'
import type { SourceDriver } from '../driver'
import { DocumentPoller } from '../poll'
import { type Answer, getDocument, httpFailure, placeOf } from './client'

/** A JSON document behind a URL, fetched at a rate (RFC 9110). */
export const httpDriver: SourceDriver<'http'> = {
  async *check(target) {
    const { host, port, tls } = placeOf(target.settings.url)
    let answer: Answer | null = null
    yield* runSteps(
      [
        ...reachSteps(host, port, 'source'),
        {
          key: 'answer',
          label: 'Answer',
          run: async () => {
            answer = await getDocument(target)
            return `${answer.status}, ${answer.type || 'no type'}, ${answer.bytes} bytes${tls ? ', over TLS' : ', without TLS: anybody in between can read it'}`
          },
        },
        {
          key: 'values',
          label: 'Values',
          run: async () => {
            const found = leavesOf(answer!.document)
            if (found.length === 0) throw new Error('The document holds no value')
            return {
              detail: `${found.length}${found.length === 500 ? ' or more' : ''} values in it`,
              facts: { result: exactJson(answer!.document, 1).slice(0, 2000) },
            }
          },
        },
      ],
      (e) => httpFailure(e, target),
    )
  },

  async browse(target, _ctx, address, deep) {
    try {
      return browseDocument((await getDocument(target)).document, address, deep)
    } catch (e) {
      throw new FailureError(httpFailure(e, target), 502)
    }
  },

  async open(target, _ctx, sink) {
    const explain = (e: unknown) => httpFailure(e, target)
    // Asked once before it counts as up: there is no connection that would tell.
    try {
      await getDocument(target)
    } catch (e) {
      throw new FailureError(explain(e), 502)
    }
    let told: PeerTime | null = null
    const ask = async () => {
      const answer = await getDocument(target)
      told = answer.told
      return answer.document
    }
    const poller = new DocumentPoller(target.settings.rateMs, ask, explain, sink)
    const { tls } = placeOf(target.settings.url)
    const { login, user } = target.settings
    return {
      summary: `${tls ? 'https' : 'http, without TLS'}, ${login === 'none' ? 'without log-in' : login === 'basic' ? `as ${user}` : 'by token'}`,
      setTags: async (tags) => poller.setTags(tags),
      peerTime: () => told,
      close: () => poller.stop(),
    }
  },
}

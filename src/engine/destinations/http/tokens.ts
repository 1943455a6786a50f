import { z } from 'zod'
import { fail } from '~/contract/failure'
import type { Clock } from '../../clock/clock'
import { NoAnswer, type Web } from '../../net/web'
import { failureOfWeb } from '../../net/web-failure'

/** A token is renewed when this share of its life is over, and so long before its end at the least, ms. */
const RENEWED = { share: 0.8, aheadMs: 30_000 }
/** Where none is told, ms. */
const LIFE_MS = 300_000
const MOST = 256_000

const TokenAnswer = z.object({
  access_token: z.string().min(1).max(100_000),
  token_type: z.string(),
  expires_in: z.coerce.number().positive().optional(),
})
const ErrorAnswer = z.object({ error: z.string().max(200), error_description: z.string().max(2000).optional() })

interface Client {
  url: URL
  id: string
  secret: string
  scope: string
}

/** Tokens by the client credentials grant (RFC 6749 4.4), renewed ahead of their end; one request for all who wait. */
export class Tokens {
  private token: { text: string; renewAt: number } | null = null
  private asking: Promise<string> | null = null

  constructor(
    private readonly web: Web,
    private readonly client: Client,
    private readonly clock: Clock,
  ) {}

  async current(): Promise<string> {
    if (this.token && this.clock.mono() < this.token.renewAt) return this.token.text
    this.asking ??= this.ask().finally(() => {
      this.asking = null
    })
    return this.asking
  }

  /** It was refused: the next request fetches another one. */
  forget(): void {
    this.token = null
  }

  private async ask(): Promise<string> {
    const { url, id, secret, scope } = this.client
    const asked = this.clock.mono()
    const form = new URLSearchParams({ grant_type: 'client_credentials', ...(scope !== '' && { scope }) })
    // Id and secret are form-encoded before they go into the header (RFC 6749 2.3.1).
    const encoded = (text: string) => new URLSearchParams({ x: text }).toString().slice(2)
    const headers = {
      accept: 'application/json',
      'content-type': 'application/x-www-form-urlencoded',
      authorization: `Basic ${Buffer.from(`${encoded(id)}:${encoded(secret)}`).toString('base64')}`,
    }
    const answer = await this.web.send({ method: 'POST', url, headers, body: Buffer.from(form.toString()), most: MOST }).catch((e: unknown) => {
      if (!(e instanceof NoAnswer)) throw e
      const { message, hint } = failureOfWeb(e, url)
      throw fail(502, 'http.token', `No token: ${message}`, hint, 'destination')
    })
    const json = jsonOf(answer.body)
    if (answer.status !== 200) {
      const said = ErrorAnswer.safeParse(json)
      const why = said.success
        ? `${said.data.error}${said.data.error_description ? `: ${said.data.error_description}` : ''}`
        : `status ${answer.status}`
      throw fail(502, 'http.token-refused', `${url.host} gives no token: ${why}`, tokenHint(said.success ? said.data.error : ''), 'destination')
    }
    const said = TokenAnswer.safeParse(json)
    if (!said.success || !/^bearer$/i.test(said.data.token_type))
      throw fail(502, 'http.token-form', `${url.host} answers with something that is no bearer token`, 'Check where tokens come from', 'destination')
    const life = (said.data.expires_in ?? LIFE_MS / 1000) * 1000
    this.token = { text: said.data.access_token, renewAt: asked + Math.max(0, Math.min(life * RENEWED.share, life - RENEWED.aheadMs)) }
    return said.data.access_token
  }
}

function jsonOf(body: Buffer): unknown {
  try {
    return JSON.parse(body.toString('utf8'))
  } catch {
    return undefined
  }
}

const tokenHint = (error: string): string =>
  error === 'invalid_client'
    ? 'Check client id and secret'
    : error === 'invalid_scope'
      ? 'Check the scope with those who run it'
      : error === 'unauthorized_client' || error === 'unsupported_grant_type'
        ? 'Have the client credentials grant allowed for this client'
        : 'Check the address of the tokens, and the client there'

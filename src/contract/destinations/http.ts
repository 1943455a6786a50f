import { z } from 'zod'
import { Id } from '../id'
import { outboxTerms, paceTerms, windowTerm, witnessTerms } from './terms'

const POINTER = /^(\/([^~/]|~[01])*)*$/
/** A place in a JSON text (RFC 6901). */
const pointer = z.string().trim().max(200).regex(POINTER, 'Levels with a slash before each: /items, /data/0/id')

/** Reads an address without log-in, query and fragment; null: it is none. */
export function webAddress(text: string): URL | null {
  if (!URL.canParse(text)) return null
  const url = new URL(text)
  const plain = url.username === '' && url.password === '' && url.hash === ''
  return plain && (url.protocol === 'http:' || url.protocol === 'https:') ? url : null
}

/** The place of a reading in the address that is read: what the one before ended with. */
export const CURSOR = '{cursor}'
const withoutCursor = (text: string) => text.replaceAll(CURSOR, '0')

/** A web server that takes messages by requests. */
export const HttpSettings = z
  .object({
    url: z
      .string()
      .trim()
      .min(1, 'Which address?')
      .max(2000)
      .refine((text) => webAddress(text)?.search === '', 'Like https://receiver.example/api: no log-in, no question mark in it')
      .meta({ label: 'Address', help: 'Paths of publications are under it', group: 'Reach' }),
    authorityId: Id.nullable().meta({
      label: 'Trusted authority',
      help: 'Which CA signed it; none: those that this machine trusts',
      group: 'Security',
    }),
    redirects: z
      .boolean()
      .default(false)
      .meta({ label: 'Follow redirects', help: 'Within the same host and port only (307, 308)', group: 'Security' }),
    loginBy: z
      .enum(['none', 'basic', 'bearer', 'certificate', 'oauth'])
      .default('none')
      .meta({ label: 'Log-in by', help: 'bearer: the password is the token; oauth: a token is fetched by client id and secret', group: 'Identity' }),
    credentialId: Id.nullable().meta({ label: 'Log-in or certificate', group: 'Identity' }),
    tokenUrl: z
      .string()
      .trim()
      .max(2000)
      .default('')
      .refine((text) => text === '' || webAddress(text) !== null, 'Like https://login.example/token')
      .meta({ label: 'Tokens from', help: 'OAuth 2.0 client credentials (RFC 6749 4.4)', group: 'Identity' }),
    scope: z.string().trim().max(500).default('').meta({ label: 'Scope', group: 'Identity' }),
    batch: z.enum(['one', 'array', 'lines']).default('one').meta({
      label: 'A request holds',
      help: 'one message; many as a JSON array; many as lines of JSON',
      group: 'Pace',
    }),
    batchMost: z.number().int().min(1).max(5000).default(100).meta({ label: 'Messages a request', group: 'Pace' }),
    batchKb: z.number().int().min(1).max(10_000).default(256).meta({ label: 'Request up to', unit: 'kB', group: 'Pace' }),
    lingerMs: z
      .number()
      .int()
      .min(0)
      .max(60_000)
      .default(50)
      .meta({ label: 'Gathered for', unit: 'ms', help: 'A request goes when it is full, or after this', group: 'Pace' }),
    answersAt: pointer.default('').meta({
      label: 'Answers lie at',
      help: 'Where in the answer to many there is one for each, in their order: /items. Empty: one answer for all',
      group: 'Pace',
    }),
    answerStatus: pointer.default('/status').meta({ label: 'Its status', help: 'Within each, a number of HTTP', group: 'Pace' }),
    answerReason: pointer.default('/error').meta({ label: 'Its reason', group: 'Pace' }),
    compression: z.enum(['none', 'gzip']).default('none').meta({ label: 'Compression', group: 'Pace' }),
    parallel: z
      .number()
      .int()
      .min(1)
      .max(64)
      .default(4)
      .meta({ label: 'Requests at once', help: 'To one path one after the other, so that it stays in order', group: 'Pace' }),
    ...paceTerms,
    ...windowTerm(1000, 'Messages handed over ahead of their answer'),
    ...witnessTerms,
    readUrl: z
      .string()
      .trim()
      .max(2000)
      .default('')
      .refine((text) => text === '' || webAddress(withoutCursor(text)) !== null, 'Like https://receiver.example/api/kept?after={cursor}')
      .meta({ label: 'Read back from', help: '{cursor} is where the reading before ended', group: 'Witness' }),
    readItems: pointer.default('/items').meta({ label: 'What is kept lies at', group: 'Witness' }),
    readCursor: pointer.default('/next').meta({ label: 'Next cursor at', group: 'Witness' }),
    readId: pointer.default('/id').meta({ label: 'Id', help: 'Within each; empty: messages are known by path and payload', group: 'Witness' }),
    readPlace: pointer.default('').meta({ label: 'Path', help: 'Within each; empty: it is not told', group: 'Witness' }),
    readPayload: pointer
      .default('')
      .meta({ label: 'Payload', help: 'Within each, as a text; empty: it is not told, nor whether it was altered', group: 'Witness' }),
    readBase64: z.boolean().default(false).meta({ label: 'Payload in base64', group: 'Witness' }),
    readEveryMs: z.number().int().min(200, 'At least 200 ms').max(600_000).default(1000).meta({ label: 'Asked every', unit: 'ms', group: 'Witness' }),
    witnessCredentialId: Id.nullable().meta({ label: 'Witness log-in', help: 'By the same way as the sender', group: 'Witness' }),
    ...outboxTerms,
  })
  .superRefine((s, ctx) => {
    const wrong = (path: string, message: string) => ctx.addIssue({ code: 'custom', path: [path], message })
    if (s.loginBy !== 'none' && !s.credentialId) wrong('credentialId', s.loginBy === 'certificate' ? 'Which certificate?' : 'Which log-in?')
    if (s.loginBy === 'oauth' && s.tokenUrl === '') wrong('tokenUrl', 'Where do tokens come from?')
    if (s.loginBy === 'certificate' && webAddress(s.url)?.protocol === 'http:') wrong('loginBy', 'A certificate needs https')
    if (!s.witness) return
    if (s.readUrl === '') wrong('readUrl', 'Where is read back what is kept there?')
    else if (!s.readUrl.includes(CURSOR)) wrong('readUrl', '{cursor} must stand in it')
    if (s.readCursor === '') wrong('readCursor', 'Where does the answer say where to go on?')
    if (s.readId === '' && (s.readPlace === '' || s.readPayload === '')) wrong('readId', 'Without the id both path and payload are needed')
  })
export type HttpSettings = z.infer<typeof HttpSettings>

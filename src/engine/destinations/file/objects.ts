import { createHash, randomUUID } from 'node:crypto'
import aws4 from 'aws4'
import type { FileSettings } from '~/contract/destinations/file'
import { webAddress } from '~/contract/destinations/http'
import { fail } from '~/contract/failure'
import { basicIso } from '~/core/value/iso-time'
import type { OpenCredential } from '~/store/credential'
import type { Clock } from '../../clock/clock'
import { trusted } from '../../net/peer-certificate'
import { Web, type WebAnswer } from '../../net/web'
import { failureOfWeb } from '../../net/web-failure'
import { refusalOf, StoreError } from './answers'
import type { Store } from './store'
import { elementsIn, textIn } from './xml'

const MB = 1_000_000
/** Octets of an object that is read, and of any other answer, at most. */
const OBJECT_MOST = 256 << 20
const ANSWER_MOST = 8 << 20
/** Names that are asked for at once. */
const PAGE = 1000
const HEX_MD5 = /^[0-9a-f]{32}$/

/** An object store and who asks it. */
export interface ObjectsAccess {
  settings: Pick<FileSettings, 'url' | 'bucket' | 'bucketInHost' | 'region' | 'folder' | 'partMb'>
  authority: OpenCredential | null
  key: { id: string; secret: string }
  answerMs: number
  parallel: number
  /** Of whom parts are that were begun and never put together. */
  tag: string
}

interface Asked {
  method: string
  key?: string
  query?: Readonly<Record<string, string>>
  body?: Uint8Array
  most?: number
  headers?: Record<string, string>
}

const md5 = (octets: Uint8Array) => createHash('md5').update(octets)
const escaped = (text: string) => text.replace(/[&<>]/g, (c) => `&#${c.charCodeAt(0)};`)

/** Objects of a bucket, whole, by the common interface of object stores; each request is signed (HMAC-SHA-256, version 4). */
export class ObjectStore implements Store {
  private readonly web: Web
  private readonly base: URL

  constructor(
    private readonly access: ObjectsAccess,
    private readonly clock: Clock,
  ) {
    const { url, bucket, bucketInHost } = access.settings
    const at = webAddress(url)!
    this.base = new URL(bucketInHost ? `${at.protocol}//${bucket}.${at.host}/` : `${at.origin}/${bucket}/`)
    const ca = access.authority?.certificate
    this.web = new Web({ tls: ca ? trusted(ca) : null, answerMs: access.answerMs, parallel: access.parallel }, clock)
  }

  /** One request; throws what the store says where that is no success. */
  private async ask({ method, key = '', query = {}, body, most = ANSWER_MOST, headers = {} }: Asked, missing = false): Promise<WebAnswer> {
    const search = Object.entries(query)
      .map(([name, value]) => `${name}${value === '' ? '' : `=${encodeURIComponent(value)}`}`)
      .join('&')
    const path = this.base.pathname + key.split('/').map(encodeURIComponent).join('/')
    const { id: accessKeyId, secret: secretAccessKey } = this.access.key
    const signed = aws4.sign(
      {
        host: this.base.host,
        method,
        path: search === '' ? path : `${path}?${search}`,
        service: 's3',
        region: this.access.settings.region,
        ...(body && { body: body as Buffer }),
        headers: {
          'content-type': 'application/octet-stream',
          'X-Amz-Date': basicIso(this.clock.wall()),
          ...headers,
        },
      },
      { accessKeyId, secretAccessKey },
    )
    const { Host: _host, 'Content-Length': _length, ...said } = signed.headers as Record<string, string>
    const url = new URL(signed.path!, this.base)
    const answer = await this.web.send({ method, url, headers: said, body: body ?? null, most }).catch((e: unknown) => {
      // Nobody knows whether it was done.
      throw new StoreError('lost', failureOfWeb(e, this.base))
    })
    if ((answer.status >= 200 && answer.status < 300) || (missing && answer.status === 404 && codeOf(answer) !== 'NoSuchBucket')) return answer
    throw this.refused(answer, key === '' ? this.access.settings.bucket : key)
  }

  private refused(answer: WebAnswer, place: string): StoreError {
    const text = answer.body.toString('utf8')
    return refusalOf(answer.status, textIn(text, 'Code'), textIn(text, 'Message'), place)
  }

  private keyOf(name: string): string {
    const { folder } = this.access.settings
    return folder === '' ? name : `${folder}/${name}`
  }

  async begin(): Promise<void> {
    await this.page('', '', 1)
  }

  /** Parts that an earlier run sent and never put together take room, and nobody sees them. */
  async clear(): Promise<void> {
    const answer = await this.ask({ method: 'GET', query: { 'encoding-type': 'url', prefix: this.keyOf(''), uploads: '' } }).catch((e: unknown) => {
      // Not every key may look, nor does every store know how.
      if (e instanceof StoreError) return null
      throw e
    })
    if (!answer) return
    for (const { texts } of elementsIn(answer.body.toString('utf8'), ['Upload'])) {
      const key = decodeURIComponent(texts.get('Key') ?? '')
      const uploadId = texts.get('UploadId') ?? ''
      if (key.includes(`.${this.access.tag}.`) && uploadId !== '')
        await this.ask({ method: 'DELETE', key, query: { uploadId } }).catch((e: unknown) => {
          if (!(e instanceof StoreError)) throw e
        })
    }
  }

  async put(name: string, octets: Uint8Array): Promise<void> {
    const key = this.keyOf(name)
    if (octets.length > this.access.settings.partMb * MB) return this.putInParts(key, octets)
    const sum = md5(octets)
    const hex = sum.copy().digest('hex')
    const answer = await this.ask({ method: 'PUT', key, body: octets, headers: { 'content-md5': sum.digest('base64') } })
    await this.verify(key, octets, answer.headers.etag, hex)
  }

  /** What is kept has the checksum of what was sent; where the store has one of its own, it is read again. */
  private async verify(key: string, octets: Uint8Array, etag: string | undefined, sum: string): Promise<void> {
    const told = (etag ?? '').replaceAll('"', '').toLowerCase()
    if (told === sum || (sum.includes('-') && !HEX_MD5.test(told.split('-')[0]!))) return
    const { body } = await this.ask({ method: 'GET', key, most: OBJECT_MOST })
    if (Buffer.compare(body, octets) === 0) return
    throw new StoreError('lost', {
      code: 'file.damaged',
      message: `${key.slice(0, 300)}: what is kept is not what was sent`,
      hint: 'Embrik sends it again; look at the store',
      where: 'destination',
    })
  }

  private async putInParts(key: string, octets: Uint8Array): Promise<void> {
    const size = this.access.settings.partMb * MB
    const begun = await this.ask({ method: 'POST', key, query: { uploads: '' } })
    const uploadId = textIn(begun.body.toString('utf8'), 'UploadId')
    if (uploadId === '') throw new StoreError('all later', wrongAnswer(key))
    try {
      const sums: Buffer[] = []
      const tags: string[] = []
      for (let at = 0; at < octets.length; at += size) {
        const part = octets.subarray(at, at + size)
        const sum = md5(part).digest()
        const query = { partNumber: String(sums.length + 1), uploadId }
        const { headers } = await this.ask({ method: 'PUT', key, query, body: part, headers: { 'content-md5': sum.toString('base64') } })
        sums.push(sum)
        tags.push(headers.etag ?? `"${sum.toString('hex')}"`)
      }
      const parts = tags.map((tag, i) => `<Part><PartNumber>${i + 1}</PartNumber><ETag>${escaped(tag)}</ETag></Part>`).join('')
      const body = Buffer.from(`<CompleteMultipartUpload xmlns="http://s3.amazonaws.com/doc/2006-03-01/">${parts}</CompleteMultipartUpload>`)
      const answer = await this.ask({ method: 'POST', key, query: { uploadId }, body })
      const text = answer.body.toString('utf8')
      // A store that takes its time says 200 before it knows.
      if (textIn(text, 'Code') !== '') throw this.refused({ ...answer, status: 500 }, key)
      await this.verify(key, octets, textIn(text, 'ETag'), `${md5(Buffer.concat(sums)).digest('hex')}-${sums.length}`)
    } catch (e) {
      await this.ask({ method: 'DELETE', key, query: { uploadId } }).catch(() => undefined)
      throw e
    }
  }

  async get(name: string): Promise<Uint8Array | null> {
    const key = this.keyOf(name)
    const answer = await this.ask({ method: 'GET', key, most: OBJECT_MOST }, true)
    if (answer.status === 404) return null
    if (answer.cut)
      throw new StoreError('later', { ...wrongAnswer(key), code: 'file.too-large', message: `${key.slice(0, 300)} is too large to be read` })
    return answer.body
  }

  private async page(folder: string, after: string, most: number): Promise<{ names: string[]; next: string }> {
    const query = {
      ...(after !== '' && { 'continuation-token': after }),
      'encoding-type': 'url',
      'list-type': '2',
      'max-keys': String(most),
      prefix: this.keyOf(folder),
    }
    const { body, cut } = await this.ask({ method: 'GET', query })
    const text = body.toString('utf8')
    if (cut || !text.includes('ListBucketResult')) throw new StoreError('all later', wrongAnswer(this.access.settings.bucket))
    const from = this.keyOf('').length
    const names = elementsIn(text, ['Contents']).flatMap(({ texts }) => {
      const key = decodeURIComponent((texts.get('Key') ?? '').replaceAll('+', ' '))
      return key.length > from ? [key.slice(from)] : []
    })
    return { names, next: textIn(text, 'NextContinuationToken') }
  }

  async *list(folder: string): AsyncIterable<string[]> {
    let next = ''
    do {
      const page = await this.page(folder, next, PAGE)
      yield page.names
      next = page.next
    } while (next !== '')
  }

  /** Puts a small object and takes it away again, to see whether that is allowed. */
  async probe(folder: string): Promise<void> {
    const key = this.keyOf(`${folder}embrik-check-${randomUUID()}`)
    await this.ask({ method: 'PUT', key, body: Buffer.from('A check: whether this key may put objects here. It may be deleted.\n') })
    await this.ask({ method: 'DELETE', key }).catch((e: unknown) => {
      // Who may put need not be allowed to delete.
      if (!(e instanceof StoreError)) throw e
    })
  }

  /** The clock of the store, by the date of an answer (RFC 9110 6.6.1); empty: it tells none. */
  async date(): Promise<string> {
    const answer = await this.web.send({ method: 'HEAD', url: this.base, headers: {}, body: null, most: ANSWER_MOST })
    return answer.headers.date ?? ''
  }

  close(): void {
    this.web.close()
  }
}

const codeOf = (answer: WebAnswer): string => textIn(answer.body.toString('utf8'), 'Code')

const wrongAnswer = (place: string) => ({
  code: 'file.protocol',
  message: `${place.slice(0, 300)}: the answer is none of an object store`,
  hint: 'Check the address: is it the store itself, and no page for people?',
  where: 'destination' as const,
})

/** The access key of a store: the user of a log-in is its id, the password its secret. */
export function accessKeyOf(credential: OpenCredential | null): { id: string; secret: string } {
  if (credential?.kind !== 'password' || !credential.user || !credential.secret)
    throw fail(
      422,
      'file.login',
      'An object store is asked with an access key',
      'Choose a log-in: its user is the key id, its password the secret',
      'destination',
    )
  return { id: credential.user, secret: credential.secret }
}

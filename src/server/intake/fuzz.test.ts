import { beforeAll, expect, it } from 'vitest'
import yazl from 'yazl'
import { HandedOver } from '~/contract/intake'
import { chance } from '~/core/value/chance'
import { plantKit } from '../../../tests/kits/make'
import { lookAt } from './offers'

/** So many damaged kits; `EMBRIK_FUZZ=100000` takes minutes. */
const TIMES = Number(process.env.EMBRIK_FUZZ ?? 1500)
const SEED = Number(process.env.EMBRIK_FUZZ_SEED ?? 7)
/** None may take longer, ms: what is handed over must not hold up everybody else. */
const LONGEST_MS = 5000
const NOW = Date.now()

let corpus: Uint8Array[] = []
beforeAll(async () => {
  const m = plantKit()
  const protect = ['-passout', 'pass:glaze']
  m.openssl('pkcs12', '-export', '-in', 'kiln-7.crt', '-inkey', 'kiln-7.key', '-certfile', 'works-between.crt', ...protect, '-out', 'new.p12')
  m.openssl('pkcs12', '-export', '-legacy', '-in', 'dryer-2.crt', '-inkey', 'dryer-2.key', ...protect, '-out', 'old.p12')
  m.openssl('pkcs8', '-topk8', '-v2', 'aes-256-cbc', ...protect, '-in', 'kiln-7.key', '-out', 'locked.pem')
  m.openssl('crl2pkcs7', '-nocrl', '-certfile', 'kiln-7.crt', '-certfile', 'works-root.crt', '-outform', 'DER', '-out', 'chain.der')
  m.openssl('x509', '-in', 'hall-broker.crt', '-outform', 'DER', '-out', 'hall.der')
  m.revocations('works-root', { of: ['works-between'] })
  const zip = new yazl.ZipFile()
  for (const name of ['kiln-7.crt', 'kiln-7.key', 'new.p12']) zip.addBuffer(Buffer.from(m.read(name)), name)
  zip.addBuffer(Buffer.from('host = broker.example\nport: 8883\nuser=kiln;password=slip'), 'read me.txt', { compress: false })
  zip.end()
  const chunks: Buffer[] = []
  for await (const chunk of zip.outputStream) chunks.push(chunk as Buffer)
  const letter = `Host=hub.example;Identity=kiln-7;Key=c2hhcmVkIGtleSBvZiBraWxuIDc=\nmqtts://a:b@broker.example:1/x\n${m.text('works-root.crt')}`
  const part = (of: object) => Buffer.from(JSON.stringify(of)).toString('base64url')
  const token = `token: ${part({ alg: 'HS256' })}.${part({ sub: 'kiln-7', aud: ['hub.example'], exp: 1.9e9 })}.c2lnbmF0dXJl\nkey: c2hhcmVkIGtleSBvZiBraWxuIDc=`
  const json = JSON.stringify({ a: [{ certificate: m.text('kiln-7.crt') }, { key: m.text('kiln-7.key') }], port: 8883 })
  // As the registries of cloud hubs hand out, with where events are read back.
  const events = 'Events=hub.example:9093;EventsTopic=hub-events;EventsUser=events;EventsPassword=clay-events-9'
  const handedOut = `Hub=hub.example;Port=8883;Unit=kiln-7;UnitKey=c2hhcmVkIGtleSBvZiBraWxuIDc=;${events}`
  const unit = JSON.stringify({ host: 'hub.example', port: 8883, unit: 'kiln-7', ...Object.fromEntries(events.split(';').map((w) => w.split('='))) })
  corpus = [
    ...['new.p12', 'old.p12', 'locked.pem', 'chain.der', 'hall.der', 'kiln-7.crt', 'dryer-2.key', 'kiln-7.csr', 'works-root.crl'].map((name) =>
      m.read(name),
    ),
    new Uint8Array(Buffer.concat(chunks)),
    new TextEncoder().encode(letter),
    new TextEncoder().encode(`${token}\nhost: hub.example\n${m.text('hall-broker.crt')}${m.text('works-root.crl')}${m.text('works-between.crt')}`),
    new TextEncoder().encode(json),
    new TextEncoder().encode(`${handedOut}\n\n${m.text('works-root.crt')}`),
    new TextEncoder().encode(unit),
  ]
}, 60_000)

/** A few octets changed, cut out, put in or doubled. */
function damaged(octets: Uint8Array, random: () => number): Uint8Array {
  let out = Uint8Array.from(octets)
  const at = () => Math.floor(random() * out.length)
  for (let n = 1 + Math.floor(random() * 6); n > 0; n--) {
    const [from, length] = [at(), Math.floor(random() * 40)]
    const how = random()
    if (how < 0.5) out[from] = Math.floor(random() * 256)
    else if (how < 0.7) out = Uint8Array.from([...out.subarray(0, from), ...out.subarray(from + length)])
    else if (how < 0.85) out = Uint8Array.from([...out.subarray(0, from), ...out.subarray(from, from + length), ...out.subarray(from)])
    else if (how < 0.95) out = Uint8Array.from([...out.subarray(0, from), 0x30, 0x84, 0xff, 0xff, 0xff, 0x7f, ...out.subarray(from)])
    else out = out.slice(0, from + 1)
  }
  return out
}

it(`${TIMES} damaged kits are looked at without a fault, none for long`, { timeout: 1_800_000 }, async () => {
  const random = chance(SEED)
  let longest = { ms: 0, n: -1 }
  for (let n = 0; n < TIMES; n++) {
    const octets = damaged(corpus[n % corpus.length]!, random)
    const began = performance.now()
    const phrases = n % 3 === 0 ? ['glaze'] : []
    const handed = HandedOver.parse({ files: [{ name: 'kit', content: Buffer.from(octets).toString('base64') }], phrases })
    const told = await lookAt(handed, [], NOW).catch((e: unknown) => {
      throw new Error(`seed ${SEED}, kit ${n}: ${e instanceof Error ? e.stack : String(e)}`)
    })
    const ms = performance.now() - began
    if (ms > longest.ms) longest = { ms, n }
    expect(Array.isArray(told.findings)).toBe(true)
  }
  expect(longest.ms, `kit ${longest.n}`).toBeLessThan(LONGEST_MS)
})

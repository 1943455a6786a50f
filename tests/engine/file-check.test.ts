import { spawnSync } from 'node:child_process'
import { existsSync, mkdirSync, symlinkSync, writeFileSync } from 'node:fs'
import type { Socket } from 'node:net'
import { join } from 'node:path'
import { afterEach, beforeEach, expect, it } from 'vitest'
import { FileSettings } from '~/contract/destinations/file'
import type { CheckStep } from '~/contract/failure'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { realClock } from '~/engine/clock/real-clock'
import type { Answer, DestinationSink } from '~/engine/destinations/driver'
import type { FileTarget } from '~/engine/destinations/file/access'
import { checkFile } from '~/engine/destinations/file/check'
import { FileSender } from '~/engine/destinations/file/sender'
import { ObjectFaults } from '~/standins/objects/faults'
import { type ObjectStoreOptions, ObjectStoreStandin } from '~/standins/objects/objects'
import { demoPki } from '~/standins/pki'
import { bundled } from '../bundle'
import { filesIn } from './files'
import { folder, freePort, until } from './support'
import { talker } from './talker'

const id = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'
const open: { stop(): unknown }[] = []
let top = ''
beforeEach(() => {
  top = folder('files')
  process.env.EMBRIK_FILES_DIR = top
})
afterEach(async () => {
  for (const one of open.splice(0).reverse()) await one.stop()
})

const keys = {
  sender: { secret: 'clay-puts-1', write: ['lake/'], read: ['lake/'] },
  witness: { secret: 'clay-gets-1', write: [], read: ['lake/'] },
  stranger: { secret: 'clay-knows-1', write: [], read: [] },
}
const login = (user: string, secret: string) => ({ kind: 'password' as const, certificate: null, user, secret })
const authority = (ca: string) => ({ kind: 'authority' as const, certificate: ca, user: null, secret: null })
const faults = (part: Partial<ObjectFaults>) => ObjectFaults.parse(part)
const terms = { retryMs: 1000, ackS: 2, witness: false, outboxMb: 50 }

function target(part: Partial<FileSettings>, more: Partial<FileTarget> = {}): FileTarget {
  const settings = FileSettings.parse({ ...terms, ...part })
  return { id, settings, authority: null, credential: null, witnessCredential: null, ...more }
}
const inFolder = (part: Partial<FileSettings> = {}) => target({ store: 'folder', folder: 'lake', ...part })
const logged = { credential: login('sender', keys.sender.secret), witnessCredential: login('witness', keys.witness.secret) }
const inStore = (port: number, part: Partial<FileSettings> = {}, more: Partial<FileTarget> = {}, scheme = 'http') =>
  target(
    { store: 'objects', folder: 'lake', url: `${scheme}://127.0.0.1:${port}`, bucket: 'works', credentialId: id, ...part },
    { ...logged, ...more },
  )

async function store(o: Partial<ObjectStoreOptions> = {}, part: Partial<ObjectFaults> = {}): Promise<ObjectStoreStandin> {
  const made = await ObjectStoreStandin.start({ port: 0, bucket: 'works', keys, ...o })
  made.setFaults(faults(part))
  open.push(made)
  return made
}

const socket = (answer: (socket: Socket) => void) => talker(answer, open)

async function check(t: FileTarget, filters: readonly string[] = []) {
  const steps = new Map<string, CheckStep>()
  for await (const step of checkFile(t, { filters, sends: [], others: [] })) steps.set(step.key, step)
  const failed = [...steps.values()].find((s) => s.state === 'failed')
  return { steps, said: failed ? `${failed.key}: ${failed.failure!.code}` : 'passed', failure: failed?.failure }
}

it('passes step by step where everything is in order, and leaves nothing behind', async () => {
  const one = await check(inFolder({ witness: true, lateS: 120 }), ['/kiln/'])
  expect([one.said, ...[...one.steps.values()].map((s) => s.detail)]).toEqual([
    'passed',
    expect.stringMatching(/^lake in \/.*, [\d.]+ [MG]B free$/),
    'a file can be written and named under /kiln/; it is taken away again',
    'may list what is there; no file of this destination yet',
  ])
  expect([...filesIn(top).keys()]).toEqual([])
  const there = await store()
  const two = await check(inStore(there.port, { witness: true, lateS: 120 }), ['/kiln/'])
  expect([two.said, ...[...two.steps.values()].map((s) => s.detail)]).toEqual([
    'passed',
    '127.0.0.1 is an address',
    expect.stringMatching(/^\d+ answers$/),
    expect.stringMatching(/^works answers in \d+ ms; without TLS: anybody in between can read what is kept$/),
    'objects can be put under /kiln/; the one that was is taken away again',
    'may list what is there; no file of this destination yet',
  ])
  expect(there.kept.size).toBe(0)
})

it('tells apart what goes wrong at a check, each with its words and what to do', async () => {
  const pki = await demoPki(folder('file-pki'))
  const other = await demoPki(folder('file-other-pki'))
  const tls = { cert: pki.broker.certificate, key: pki.broker.key }
  const [there, secure] = [await store(), await store({ tls })]
  const mute = await socket(() => undefined)
  const page = await socket((s) => s.on('data', () => s.write('HTTP/1.1 200 OK\r\ncontent-length: 21\r\n\r\n<html>Welcome!</html>')))
  const broker = await socket((s) => void s.write(Buffer.from([0x20, 0x02, 0x00, 0x05])))
  writeFileSync(join(top, 'taken'), 'a file')
  symlinkSync('/etc', join(top, 'elsewhere'))
  mkdirSync(join(top, 'lake'))
  writeFileSync(join(top, 'lake/kiln'), 'a file')
  const wrongKey = { credential: login('sender', 'wrong') }
  const rows: [what: string, work: ReturnType<typeof check>, wanted: string, words: string][] = [
    ['a file where the folder is to be', check(inFolder({ folder: 'taken' })), 'folder: file.in-the-way', 'a file lies where a folder is needed'],
    ['a folder that leads elsewhere', check(inFolder({ folder: 'elsewhere/x' })), 'folder: file.outside', 'leads out of the files folder'],
    ['a file in the way of a publication', check(inFolder(), ['/kiln/']), 'write: file.in-the-way', 'a file lies where a folder is needed'],
    ['an unknown name', check(inStore(0, { url: 'http://no-such-host.varnmoor.invalid' })), 'name: name.unknown', 'cannot be resolved'],
    ['a closed port', check(inStore(await freePort())), 'port: port.refused', 'Nothing listens'],
    ['an address that is not to be reached', check(inStore(0, { url: 'http://169.254.169.254' })), 'name: address.refused', 'is refused'],
    ['one that says nothing', check(inStore(mute)), 'bucket: http.silent', 'no answer in time'],
    ['a page for people', check(inStore(page)), 'bucket: file.protocol', 'none of an object store'],
    ['another protocol', check(inStore(broker)), 'bucket: http.protocol', 'does not answer by HTTP'],
    ['TLS where there is none', check(inStore(there.port, {}, {}, 'https')), 'tls: tls.protocol', 'does not speak TLS'],
    ['no TLS where it is wanted', check(inStore(secure.port)), 'bucket: http.cut', 'hung up'],
    ['an authority that is not trusted', check(inStore(secure.port, {}, {}, 'https')), 'tls: tls.authority', 'not trusted here'],
    ['another authority', check(inStore(secure.port, {}, { authority: authority(other.ca) }, 'https')), 'tls: tls.authority', 'authority'],
    ['a wrong secret', check(inStore(there.port, {}, wrongKey)), 'bucket: file.login', 'the signature is wrong'],
    ['an unknown key', check(inStore(there.port, {}, { credential: login('nobody', 'x') })), 'bucket: file.login', 'does not know the access key'],
    ['no key', check(inStore(there.port, {}, { credential: null })), 'bucket: file.login', 'asked with an access key'],
    ['a bucket that is not there', check(inStore(there.port, { bucket: 'nowhere' })), 'bucket: file.no-bucket', 'there is no such bucket'],
    ['another region', check(inStore(there.port, { region: 'north-1' })), 'bucket: file.region', 'wants another region'],
    [
      'a key that may not list',
      check(inStore(there.port, {}, { credential: login('stranger', keys.stranger.secret) })),
      'bucket: file.not-allowed',
      'not allowed',
    ],
    ['a key that may only read', check(inStore(there.port, {}, { credential: logged.witnessCredential })), 'write: file.not-allowed', 'not allowed'],
    ['a clock that is far off', check(inStore((await store({}, { clockS: 3600 })).port)), 'bucket: file.clock', 'too far apart'],
    ['a store that is full', check(inStore((await store({}, { full: true })).port)), 'write: file.full', 'no room left'],
    ['a store that is busy', check(inStore((await store({}, { busy: true })).port)), 'bucket: file.busy', 'wants fewer requests'],
    [
      'a witness that may not list',
      check(inStore(there.port, { witness: true, lateS: 120 }, { witnessCredential: login('stranger', keys.stranger.secret) })),
      'witness: file.not-allowed',
      'not allowed',
    ],
  ]
  for (const [what, work, wanted, words] of rows) {
    const { said, failure } = await work
    expect(said, what).toBe(wanted)
    expect(failure!.message, what).toContain(words)
    expect(failure!.hint.length, what).toBeGreaterThan(8)
    expect(failure!.where, what).toBe(wanted.startsWith('witness') ? 'witness' : wanted.includes('address.') ? 'engine' : 'destination')
  }
  expect((await check(inStore((await store({}, { clockS: 300 })).port))).steps.get('bucket')!.detail).toMatch(/its clock is (299|300) s ahead/)
  expect((await check(inStore(secure.port, {}, { authority: authority(pki.ca) }, 'https'), ['/kiln/'])).said).toBe('passed')
})

interface Sent {
  answers: Answer[]
  down: string | null
}

/** Sends a message through a real sender, and gives what is said of it. */
async function sent(t: FileTarget, topic = 'kiln/zone-1', during: () => void = () => undefined): Promise<Sent> {
  const out: Sent = { answers: [], down: null }
  const sink: DestinationSink = {
    down: (failure) => {
      out.down = failure.code
    },
    ready: () => undefined,
    durable: (then) => then(),
    wall: () => Date.now(),
    waits: () => undefined,
    asked: () => undefined,
    mayGoOut: () => true,
    doneLately: () => [],
    anew: () => undefined,
  }
  const sender = await FileSender.begin(t, sink, realClock, new Map())
  open.push({ stop: () => sender.close() })
  during()
  const envelope = {
    ...{ delivery: 1, seq: 1, turn: 0, topic, payload: '{"n":1}', properties: packProperties(plainJson), assurance: 'acknowledged' as const },
    ...{ deviceAt: 0, producedAt: 1_764_385_946_000, madeMono: 0 },
  }
  sender.send({ envelope, id: 'inst.1.1', ordinal: 1, again: false, inDoubt: false, alone: false }, (a) => out.answers.push(a))
  sender.hurry(true)
  await until(() => out.answers.length > 0 || out.down !== null, 'an answer', 30)
  return out
}

it('tells apart what goes wrong when files are written: what waits, for what, and what never goes', async () => {
  const cases: [what: string, work: () => Promise<Sent>, wanted: string][] = [
    ['a name that is too long', () => sent(inFolder(), `kiln/${'x'.repeat(250)}`), 'refused file.path-length'],
    [
      'a file in the way',
      () => sent(inFolder({ folder: 'a' }), 'kiln/x/y', () => writeFileSync(join(top, 'a/kiln'), 'x')),
      'later at the place file.in-the-way',
    ],
    [
      'a link that leads elsewhere',
      () => sent(inFolder({ folder: 'b' }), 'kiln/x/y', () => symlinkSync('/tmp', join(top, 'b/kiln'))),
      'later at the place file.outside',
    ],
    [
      'another file of the same name',
      () => sent(inFolder({ folder: 'c' }), 'zone', () => writeFileSync(join(top, 'c/zone.20251129T031226Z.c1e2c52f.1-1.ndjson'), 'somebody else')),
      'later at the place file.another',
    ],
    [
      'a key that may not put',
      async () => sent(inStore((await store()).port, {}, { credential: logged.witnessCredential })),
      'later at the place file.not-allowed',
    ],
    ['a store that is full', async () => sent(inStore((await store({}, { full: true })).port)), 'later file.full'],
    [
      'an object that is too large',
      async () => sent(inStore((await store({}, { errorOn: 'zone', status: 400, code: 'EntityTooLarge' })).port)),
      'later at the place file.too-large',
    ],
    [
      'a key that is too long',
      async () => sent(inStore((await store({}, { errorOn: 'zone', status: 400, code: 'KeyTooLongError' })).port)),
      'refused file.path-length',
    ],
    [
      'a store that fails',
      async () => sent(inStore((await store({}, { errorOn: 'zone', status: 500, code: 'InternalError' })).port)),
      'down file.failed',
    ],
    ['a store that changes octets', async () => sent(inStore((await store({}, { alter: 1, ownSums: true })).port)), 'down file.damaged'],
    [
      'an answer of an unknown kind',
      async () => sent(inStore((await store({}, { errorOn: 'zone', status: 418, code: 'Teapot' })).port)),
      'later at the place file.status-418',
    ],
    ['a lost answer', async () => sent(inStore((await store({}, { loseAnswer: 1 })).port)), 'down http.cut'],
    [
      'a store that is slower than may be',
      async () => {
        const there = await store()
        return sent(inStore(there.port), 'kiln/zone-1', () => there.setFaults(faults({ slowMs: 8000 })))
      },
      'down http.silent',
    ],
  ]
  for (const [what, work, wanted] of cases) {
    const { answers, down } = await work()
    const [first] = answers
    const said =
      down !== null
        ? `down ${down}`
        : first?.kind === 'later'
          ? `later${first.place ? ' at the place' : ''} ${first.failure.code}`
          : first?.kind === 'refused'
            ? `refused ${first.failure.code}`
            : first?.kind
    expect(said, what).toBe(wanted)
  }
})

it('a check, or a witness that begins, takes nothing away that is being written', async () => {
  await sent(inFolder())
  const begun = join(top, 'lake/.unfinished/c1e2c52f-half')
  writeFileSync(begun, 'half')
  const witnessed = { witness: true, lateS: 120 }
  expect((await check(inFolder(witnessed), ['/kiln/'])).said).toBe('passed')
  expect(existsSync(begun)).toBe(true)
  const there = await store()
  const parts = there.begin('lake/kiln/zone.20251129T031226Z.c1e2c52f.1-2.ndjson')
  expect((await check(inStore(there.port, witnessed), ['/kiln/'])).said).toBe('passed')
  expect(there.uploadsOpen).toContain(parts)
  // Who begins to write does.
  await sent(inFolder())
  await sent(inStore(there.port), 'kiln/zone-2')
  expect(existsSync(begun)).toBe(false)
  expect(there.uploadsOpen).toEqual([])
})

it('a full disk is told, waited for, and leaves no half file', async () => {
  const program = await bundled('tests/engine/full-disk.ts', 'full-disk.mjs')
  // A namespace of its own, so that nobody needs to be root for a small disk.
  const run = spawnSync('unshare', ['-rm', 'sh', '-c', `mount -t tmpfs -o size=64k embrik ${top} && exec ${process.execPath} ${program}`], {
    env: { ...process.env, EMBRIK_FILES_DIR: top },
    encoding: 'utf8',
  })
  expect(run.stderr).toBe('')
  const [first, full, then, again, last] = JSON.parse(run.stdout) as [string, unknown, string[], string, string[]]
  expect(first).toBe('has')
  expect(full).toEqual(['later', false, 'file.full', 'Make room there; Embrik tries again'])
  expect(then).toEqual(['zone.20251129T031226Z.c1e2c52f.1-1.ndjson'])
  expect(again).toBe('has')
  expect(last).toHaveLength(2)
})

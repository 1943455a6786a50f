// A sender of files on a disk of a few pages, which is full and then is not: started by the tests in a namespace of its own, prints what was said.
import { readdirSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { FileSettings } from '~/contract/destinations/file'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { realClock } from '~/engine/clock/real-clock'
import type { Answer } from '~/engine/destinations/driver'
import { FileSender } from '~/engine/destinations/file/sender'

const disk = process.env.EMBRIK_FILES_DIR!
const settings = FileSettings.parse({ store: 'folder', folder: 'lake', retryMs: 1000, ackS: 5, witness: false, outboxMb: 50 })
const target = { id: '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f', settings, authority: null, credential: null, witnessCredential: null }
const sink = {
  down: (f: { code: string }) => console.error(f.code),
  ready: () => undefined,
  durable: (then: () => void) => then(),
  wall: () => Date.now(),
  waits: () => undefined,
  asked: () => undefined,
  mayGoOut: () => true,
  doneLately: () => [],
  anew: () => undefined,
}
const sender = await FileSender.begin(target, sink, realClock, new Map())
const send = (seq: number) =>
  new Promise<Answer>((done) => {
    const envelope = {
      ...{ delivery: 1, seq, turn: 0, topic: 'kiln/zone', payload: `{"n":${seq}}`, properties: packProperties(plainJson) },
      ...{ assurance: 'acknowledged' as const, deviceAt: 0, producedAt: 1_764_385_946_000, madeMono: 0 },
    }
    sender.send({ envelope, id: `inst.1.${seq}`, ordinal: seq, again: false, inDoubt: false, alone: false }, done)
    sender.hurry(true)
  })
const files = () =>
  (readdirSync(disk, { recursive: true, withFileTypes: true }) as { name: string; isFile(): boolean }[]).flatMap((e) =>
    e.isFile() && !e.name.startsWith('filler') ? [e.name] : [],
  )
const said: unknown[] = [(await send(1)).kind]
// Until less than a page is left.
let fillers = 0
for (;;)
  try {
    writeFileSync(join(disk, `filler-${fillers}`), Buffer.alloc(4096))
    fillers++
  } catch {
    break
  }
const full = await send(2)
said.push(full.kind === 'later' ? [full.kind, full.place ?? false, full.failure.code, full.failure.hint] : full, files())
for (let i = 0; i <= fillers; i++) rmSync(join(disk, `filler-${i}`), { force: true })
said.push((await send(2)).kind, files())
sender.close()
console.log(JSON.stringify(said))
process.exit(0)

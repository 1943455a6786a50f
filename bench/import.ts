// 100,000 rows of CSV: dry run and apply, beside a bare parse and COPY of the same file.
import { spawn } from 'node:child_process'
import { randomUUID } from 'node:crypto'
import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { sql } from 'kysely'
import Papa from 'papaparse'
import { type Tag, TagDraft, type TagEdit } from '~/contract/tag'
import { surroundings, tagColumns } from '~/core/tag/columns'
import { flatten } from '~/core/tag/flat'
import { editOf, finish, planRows } from '~/core/tag/plan'
import { readBytes, writeText } from '~/core/tag/sheet'
import { databaseUrl } from '~/store/database'
import { addSource } from '~/store/source'
import { listTags } from '~/store/tag'
import { editTags } from '~/store/tag-edit'
import { Vault } from '~/store/vault'
import { emptyDatabase, median, show } from './common'

const ROWS = 100_000
const ROUNDS = 3
const db = await emptyDatabase()
const { id } = await addSource(db, new Vault(Buffer.alloc(32, 7)), {
  name: 'Meters',
  kind: 'modbus',
  enabled: false,
  settings: {
    host: '127.0.0.1',
    port: 502,
    notation: 'zero',
    probeUnit: 1,
    writes: 'multiple',
    gap: 8,
    timeoutMs: 1000,
    rateMs: 1000,
    retryMs: 1000,
  } as never,
})
const around = surroundings([{ id, name: 'Meters', kind: 'modbus' }], [])
const draft = TagDraft.parse({
  name: 'x',
  sourceId: id,
  address: '1 holding@0 float32 CDAB',
  dataType: 'number',
  unit: 'kW',
  range: { low: 0, high: 400 },
  deadband: { kind: 'absolute', size: 0.5 },
})
const tag = (i: number): Tag => ({
  ...draft,
  name: `Hall ${Math.floor(i / 10_000)}/Meter ${Math.floor(i / 20)}/value ${i}`,
  address: `${1 + Math.floor(i / 30_000)} holding@${(i % 30_000) * 2} float32 CDAB`,
  description: `Value ${i} of the made-up meters`,
  id: randomUUID(),
  handle: i,
  version: 1,
})
const columns = tagColumns.filter((c) => c.property !== null && c.key !== 'id').map((c) => c.key)
const flats = Array.from({ length: ROWS }, (_, i) => flatten(tag(i), around))
const bytes = Buffer.from(writeText(flats, columns, { separator: ',', decimal: '.' }))
const file = join('/tmp', `embrik-bench-${process.pid}.csv`)
writeFileSync(file, bytes)
show('file: rows, columns, MB', `${ROWS.toLocaleString('en')}, ${columns.length}, ${(bytes.length / 1e6).toFixed(1)}`)

const timed = async (work: () => unknown): Promise<number> => {
  const began = performance.now()
  await work()
  return performance.now() - began
}
/** As a database tool reads a file: COPY from its client, over the wire. */
const copy = (table: string) =>
  new Promise<void>((done, failed) => {
    const child = spawn('psql', [databaseUrl(), '-qc', `\\copy ${table} from '${file}' with (format csv, header)`], { stdio: 'inherit' })
    child.on('error', failed)
    child.on('exit', (code) => (code === 0 ? done() : failed(new Error(`psql ended with ${code}`))))
  })
await sql.raw(`create table bare (${columns.map((c) => `"${c}" text`).join(', ')})`).execute(db)
await sql
  .raw(
    `create table keyed (${columns.map((c) => `"${c}" text`).join(', ')}, id uuid default gen_random_uuid() primary key, handle int generated always as identity unique)`,
  )
  .execute(db)
await sql`create unique index on keyed (name)`.execute(db)
await sql`create index on keyed (source, address)`.execute(db)
const keyed = `keyed (${columns.map((c) => `"${c}"`).join(', ')})`

const times: Record<'parse' | 'bare' | 'keyed' | 'dry' | 'apply' | 'again', number[]> = {
  parse: [],
  bare: [],
  keyed: [],
  dry: [],
  apply: [],
  again: [],
}
for (let round = 0; round < ROUNDS; round++) {
  await sql`truncate bare, keyed, tag cascade`.execute(db)
  times.parse.push(await timed(() => Papa.parse(bytes.toString('utf8')).data.length))
  times.bare.push(await timed(() => copy('bare')))
  times.keyed.push(await timed(() => copy(keyed)))
  const dryRun = async () => finish(planRows({ ...readBytes(bytes), tags: await listTags(db), around }))
  let plan = await dryRun()
  times.dry.push(await timed(async () => (plan = await dryRun())))
  if (plan.counts.add !== ROWS) throw new Error(JSON.stringify(plan.counts))
  const edit = { add: [], change: [], remove: [], ...editOf(plan.rows) } as TagEdit
  times.apply.push(await timed(() => editTags(db, edit)))
  times.again.push(await timed(async () => (plan = await dryRun())))
  if (plan.counts.same !== ROWS) throw new Error(JSON.stringify(plan.counts))
}
const m = Object.fromEntries(Object.entries(times).map(([k, list]) => [k, median(list)])) as Record<keyof typeof times, number>
const s = (ms: number) => `${(ms / 1000).toFixed(2)} s`
show('bare: parse, COPY into a table of texts, COPY into one with a tag’s indexes', `${s(m.parse)}, ${s(m.bare)}, ${s(m.keyed)}`)
show('Embrik: dry run, apply in one transaction', `${s(m.dry)}, ${s(m.apply)}`)
show(
  'times of the bare ones (with indexes; without)',
  `${((m.dry + m.apply) / (m.parse + m.keyed)).toFixed(1)}; ${((m.dry + m.apply) / (m.parse + m.bare)).toFixed(1)}`,
)
show('dry run of the same file again, nothing changed', s(m.again))
await db.destroy()
process.exit(0)

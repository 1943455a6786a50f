// 10,000 equipment of 12 members over 50,000 tags: naming pattern, proposals, coverage, and the edit that binds them all.
import { randomUUID } from 'node:crypto'
import { type Binding, Member } from '~/contract/equipment'
import { type ShapeInput, ShapeSettings } from '~/contract/shape'
import { type Tag, TagDraft } from '~/contract/tag'
import { coverageOf } from '~/core/equipment/coverage'
import type { ClassLike } from '~/core/equipment/members'
import { matchNaming, NameIndex, type NamingHit, parseNaming } from '~/core/equipment/naming'
import { ProposalIndex, propose } from '~/core/equipment/propose'
import { Resolver } from '~/core/equipment/resolve'
import { compile } from '~/core/publication/compile'
import { overMqtt } from '~/core/publication/over-mqtt'
import type { World } from '~/core/publication/placed'
import { Runner } from '~/core/publication/runner'
import { addClass } from '~/store/class'
import { listEquipment } from '~/store/equipment'
import { editEquipment } from '~/store/equipment-edit'
import { addSource } from '~/store/source'
import { addTags } from '~/store/tag-edit'
import { Vault } from '~/store/vault'
import { emptyDatabase, median, show } from './common'

const EQUIPMENT = 10_000
const KEYS = ['speed', 'current', 'torque', 'temperature', 'pressure', 'flow', 'level', 'power', 'vibration', 'position', 'count', 'running']
/** As many of the members have a tag: 50,000 in all. */
const TAGGED = 5
const ROUNDS = 3

function finish<T>(steps: Generator<unknown, T>): T {
  for (let s = steps.next(); ; s = steps.next()) if (s.done) return s.value
}
const timed = <T>(work: () => T): [T, number] => {
  const began = performance.now()
  const out = work()
  return [out, (performance.now() - began) / 1000]
}

const db = await emptyDatabase()
const source = await addSource(db, new Vault(Buffer.alloc(32, 7)), {
  name: 'Large',
  kind: 'opcua',
  enabled: false,
  settings: { endpoint: 'opc.tcp://127.0.0.1:1/x', mode: 'None', policy: 'None', login: 'anonymous', rateMs: 500, retryMs: 1000 } as never,
})
const members = KEYS.map((key, i) => Member.parse({ id: `m${i}`, key, label: key, unit: i === 3 ? '°C' : '' }))
const cls = await addClass(db, { name: 'Machine', members })
const drafts = Array.from({ length: EQUIPMENT * TAGGED }, (_, i) =>
  TagDraft.parse({
    name: `Hall ${Math.floor(i / 5000)}/Machine ${Math.floor(i / TAGGED)}/${KEYS[i % TAGGED]}`,
    sourceId: source.id,
    address: `ns=1;i=${i}`,
    dataType: 'number',
    unit: i % TAGGED === 3 ? '°F' : '',
  }),
)
const tags: Tag[] = await addTags(db, drafts)
const site = randomUUID()
const top = randomUUID()
const [made, makeS] = await (async () => {
  const began = performance.now()
  const edited = await editEquipment(db, {
    add: [
      { id: top, name: 'Varnmoor', parentId: null, level: 'enterprise' },
      { id: site, name: 'Lower Pit', parentId: top, level: 'site' },
      ...Array.from({ length: EQUIPMENT }, (_, i) => ({ name: `Machine ${i}`, parentId: site, level: 'work centre' as const, classId: cls.id })),
    ],
  })
  return [edited, (performance.now() - began) / 1000] as const
})()
const classes = new Map<string, ClassLike>([[cls.id, cls]])
const tagMap = new Map(tags.map((t) => [t.id, t]))
const fresh = (list: readonly (typeof made.equipment)[number][]) =>
  new Resolver({ equipment: new Map(list.map((e) => [e.id, e])), classes, tags: tagMap, records: new Map() })
const machines = made.equipment.filter((e) => e.classId)

const halls = made.equipment.map((e) => ({ ...e, facts: { hall: Math.floor(Number(e.name.split(' ')[1]) / 1000) } }))
const inHalls = halls.filter((e) => e.classId)
/** As the page does it: names of tags are sorted anew, equipment resolved anew. */
const look = (pattern: string): NamingHit[] => finish(matchNaming(parseNaming(pattern), inHalls, fresh(halls), new NameIndex(tags)))
const preview: number[] = []
const starred: number[] = []
let hits: NamingHit[] = []
for (let i = 0; i < ROUNDS; i++) {
  starred.push(timed(() => look('*{name}/{member}'))[1])
  const [found, s] = timed(() => look('Hall {fact.hall}/{name}/{member}'))
  hits = found
  preview.push(s)
}
const single = hits.filter((h) => h.tagIds.length === 1)
if (single.length !== EQUIPMENT * TAGGED) throw new Error(`${single.length} hits, not ${EQUIPMENT * TAGGED}`)
const [proposals, proposeS] = timed(() => finish(propose(machines, fresh(made.equipment), new ProposalIndex(tags))))

const bindings = new Map<string, Record<string, Binding>>()
for (const h of single) {
  const own = bindings.get(h.equipmentId) ?? {}
  own[h.path] = { kind: 'tag', tagId: h.tagIds[0]! }
  bindings.set(h.equipmentId, own)
}
const began = performance.now()
await editEquipment(db, { change: [...bindings].map(([id, b]) => ({ id, bindings: b })) })
const bindS = (performance.now() - began) / 1000
const [stored, readS] = await (async () => {
  const from = performance.now()
  return [await listEquipment(db), (performance.now() - from) / 1000] as const
})()
const covered: number[] = []
for (let i = 0; i < ROUNDS; i++)
  covered.push(
    timed(() => {
      const resolver = fresh(stored)
      let filled = 0
      for (const e of stored) filled += coverageOf(resolver, e, () => 0).counts.good
      if (filled !== EQUIPMENT * TAGGED) throw new Error(`${filled} filled`)
    })[1],
  )
/** All of them as one publication: resolved with topics, and made ready to run. */
const world: World = { equipment: new Map(stored.map((e) => [e.id, e])), classes, tags: tagMap, records: new Map(), madeUpSources: new Set() }
const publication = (shape: ShapeInput, topic: string) => {
  const draft = overMqtt({
    name: 'all',
    equipmentIds: machines.map((e) => e.id),
    trigger: { kind: 'change' },
    shape: ShapeSettings.parse(shape),
    topic,
    destinationId: 'd',
  })
  const [{ body }, resolveS] = timed(() => compile(draft, world))
  const plan = { ...draft, ...body, publicationId: 'p', number: 1, delivery: 1 }
  const [, readyS] = timed(() => new Runner(plan))
  return `${seconds(resolveS)}, ${seconds(readyS)} (${body.messages.length.toLocaleString('en')} messages)`
}
const seconds = (s: number) => `${s.toFixed(2)} s`
console.log(`${EQUIPMENT.toLocaleString('en')} equipment of ${KEYS.length} members, ${tags.length.toLocaleString('en')} tags, medians of ${ROUNDS}`)
show('naming pattern over all: Hall {fact.hall}/{name}/{member}', seconds(median(preview)))
show('with a star: *{name}/{member}', seconds(median(starred)))
show(`proposals for all open members (${proposals.length.toLocaleString('en')})`, seconds(proposeS))
show('coverage of all, resolved anew', seconds(median(covered)))
show('made in one edit', seconds(makeS))
show(`${single.length.toLocaleString('en')} members bound in one edit`, seconds(bindS))
show('read back', seconds(readS))
show('as one publication: resolved, made ready; flat JSON', publication({ kind: 'flat-json' }, '{path}/state'))
show('the same, bare values, a topic a member', publication({ kind: 'value' }, '{path}/{member}'))
await db.destroy()

import type { Plan, Preview, PublicationDraft } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { some } from '~/core/address/some'
import { placeText } from '~/core/address/topic-template'
import { topicTree } from '~/core/address/topic-tree'
import { type CompileOptions, compile, type PlanBody, type World } from '~/core/publication/compile'
import { leftBehind } from '~/core/publication/left-behind'
import { asPrescribed } from '~/core/publication/prescribed'
import { Runner } from '~/core/publication/runner'
import { valueFindings } from '~/core/publication/value-findings'
import { sizeOf, wholeFindings } from '~/core/publication/whole-findings'
import { decoderOf, scopeOf } from '~/core/shape/registry'
import type { HostFacts } from '~/core/shape/shape'
import type { LiveTable } from '../live/table'
import { packer, shownPayload } from './message'

export interface PreviewOptions {
  host: HostFacts
  /** What is live now. */
  plans: readonly Plan[]
  /** Messages a second of each kind, of the publication itself while it is live. */
  rates?: readonly number[]
  /** Whose message is shown; else the first. */
  equipmentId?: string
  /** The publication whose draft it is. */
  publicationId?: string
  /** Where it would go. */
  destination?: CompileOptions['destination']
}

const TOPICS = 12
/** So many topics go into the tree. */
const TREE = 200_000

/** One real message as a draft would send it now, with the values of this moment; and all topics that it would write. */
export function previewOf(draft: PublicationDraft, world: World, table: LiveTable, o: PreviewOptions): Preview {
  const { body, findings, converted } = compile(draft, world, {
    others: o.plans,
    ...(o.publicationId !== undefined && { publicationId: o.publicationId }),
    ...(o.destination && { destination: o.destination }),
  })
  const tags = new Map([...world.tags.values()].map((t) => [t.handle, t]))
  const value = (h: number) => table.value[h] ?? null
  findings.push(...wholeFindings(draft.shape, body.equipment, (h) => sizeOf(tags.get(h), value(h))))
  findings.push(...valueFindings(body.equipment, body.messages, value))
  const keys = body.equipment.map((e) => e.members.map((m) => m.key))
  const topics = body.messages.slice(0, TREE).map((m) => placeText(m.place, keys[m.equipment[0]!]))
  const live = o.plans.find((p) => p.publicationId === o.publicationId)
  const behind = live && live.destinationId === draft.destinationId ? leftBehind(live, { ...body, address: draft.address }) : []
  const { nouns, taken } = kindOf(draft.address).leaves
  if (behind.length > 0)
    findings.push({
      severity: 'warns',
      section: 'safely',
      message: `${behind.length} ${nouns[behind.length === 1 ? 0 : 1]} of the live version would stay there`,
      hint: taken
        ? 'They are taken back at the go-live, unless you untick that here'
        : 'Tick here that they are taken back at the go-live, if the topic keeps the last of each',
    })
  if (live && draft.rule) findings.push(...joining(live, body))
  const shown = body.messages.find((m) => m.equipment.some((e) => body.equipment[e]!.id === o.equipmentId)) ?? body.messages[0]
  return {
    findings,
    topics: topics.slice(0, TOPICS),
    topicCount: new Set(topics).size,
    equipment: shown ? (shown.equipment.length === 1 ? body.equipment[shown.equipment[0]!]!.name : `${shown.equipment.length} equipment`) : null,
    ...(shown && !findings.some((f) => f.section === 'shape' && f.severity === 'stops')
      ? oneMessage(draft, body, shown, table, o)
      : { topic: null, message: null }),
    leftBehind: behind.slice(0, TOPICS).map(({ place, key }) => (key === '' ? place : `${place}, key ${key}`)),
    leftBehindCount: behind.length,
    tree: topicTree(topics, rateOf(draft, live, o.rates), kindOf(draft.address).levels.separator),
    converted,
  }
}

/** Equipment that a rule is for now, and was not when it went live; and the other way round. */
function joining(live: Pick<Plan, 'equipment' | 'number'>, body: PlanBody): Preview['findings'] {
  const ids = (all: Plan['equipment']) => new Set(all.map((e) => e.id))
  const [then, now] = [ids(live.equipment), ids(body.equipment)]
  const come = body.equipment.filter((e) => !then.has(e.id)).map((e) => e.name)
  const gone = live.equipment.filter((e) => !now.has(e.id)).map((e) => e.name)
  const told = (message: string): Preview['findings'][number] => ({ severity: 'warns', section: 'what', message, hint: 'Go live again for that' })
  return [
    ...(come.length > 0 ? [told(`The rule is for ${some(come)} too, which version ${live.number} does not send`)] : []),
    ...(gone.length > 0 ? [told(`The rule is for ${some(gone)} no more, which version ${live.number} still sends`)] : []),
  ]
}

/** By the clock each topic has its beat; else what the live version sends to the same topic. */
function rateOf(draft: PublicationDraft, live: Plan | undefined, rates: readonly number[] | undefined): (topic: string) => number | null {
  if (draft.trigger.kind === 'every') {
    const rate = 1 / draft.trigger.seconds
    return () => rate
  }
  const known = new Map<string, number>()
  live?.messages.forEach((m, n) => {
    const topic = placeText(
      m.place,
      live.equipment[m.equipment[0]!]?.members.map((x) => x.key),
    )
    known.set(topic, (known.get(topic) ?? 0) + (rates?.[n] ?? 0))
  })
  return (topic) => known.get(topic) ?? null
}

/** How a message of the plan looks with the values of this moment; null: it has nothing to say. What is no JSON comes as base64 or text. */
export function exampleOf(plan: Plan | (PublicationDraft & PlanBody), table: LiveTable, host: HostFacts): (place: number) => unknown {
  return (place) => {
    const shown = plan.messages[place]
    if (!shown) return null
    const { message } = oneMessage(plan, plan, shown, table, { host, publicationId: 'publicationId' in plan ? plan.publicationId : 'draft' })
    if (!message) return null
    if (message.binary) return { base64: message.payload }
    try {
      return JSON.parse(message.payload) as unknown
    } catch {
      return message.payload
    }
  }
}

type Spoken = Pick<PublicationDraft, 'shape' | 'address' | 'trigger' | 'destinationId' | 'name'>

function oneMessage(
  draft: Spoken,
  body: PlanBody,
  shown: Plan['messages'][number],
  table: LiveTable,
  o: Pick<PreviewOptions, 'host' | 'publicationId'>,
): Pick<Preview, 'topic' | 'message'> {
  // A plan of this one message only, so that nothing else is made ready.
  const message = { ...shown, equipment: shown.equipment.map((_, i) => i), places: shown.equipment }
  const { shape, address, trigger, destinationId, name } = asPrescribed(draft)
  const plan: Plan = {
    ...body,
    equipment: shown.equipment.map((e) => body.equipment[e]!),
    messages: [message],
    publicationId: o.publicationId ?? 'draft',
    name,
    number: 0,
    delivery: 0,
    destinationId,
    trigger,
    shape,
    address,
  }
  const now = Date.now()
  const runner = new Runner(plan, o.host)
  for (const cells of runner.cellsOfEquipment)
    for (const cell of cells) {
      for (const h of cell.handles) table.ensure(h)
      cell.read(table, now)
    }
  const encoded = runner.encode(0, now, 1)
  if (!encoded) return { topic: null, message: null }
  return { topic: encoded.place, message: shownPayload(plan, encoded, packer(plan)(encoded), decoderOf(shape, scopeOf(plan, message))) }
}

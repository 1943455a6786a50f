import type { HeldValues, Plan, Preview, PublicationDraft, ShownPayload } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { some } from '~/core/address/some'
import { placeText } from '~/core/address/topic-template'
import { topicTree } from '~/core/address/topic-tree'
import { type Compiled, type CompileOptions, compile, type PlanBody } from '~/core/publication/compile'
import { leftBehind } from '~/core/publication/left-behind'
import type { World } from '~/core/publication/placed'
import { type Load, reachOf } from '~/core/publication/preflight/reach'
import { asPrescribed } from '~/core/publication/prescribed'
import { Runner } from '~/core/publication/runner'
import { applySteps } from '~/core/publication/steps/apply'
import { allTags } from '~/core/publication/steps/behind'
import { valueFindings } from '~/core/publication/value-findings'
import { sizeOf, wholeFindings } from '~/core/publication/whole-findings'
import type { LookupAnswer } from '~/core/rows/looked-up'
import { decoderOf, scopeOf } from '~/core/shape/registry'
import type { HostFacts } from '~/core/shape/shape'
import type { LiveTable } from '../live/table'
import { Sandbox } from '../scripts/sandbox'
import { problemWords } from '../scripts/script'
import { scriptOf } from './flow'
import { packer, shownPayload } from './message'
import { heldOf, holdIn, stepsShown, throughStages } from './step-preview'

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
  /** Values to be used in the place of those of this moment. */
  held?: HeldValues
  /** Where rows of a source go out: how many there are, and why there are none. */
  rows?: { count: number; problem: string }
  /** What the sources answered last in whose rows something is looked up. */
  answers?: readonly LookupAnswer[]
}

let sandbox: Promise<Sandbox> | null = null
/** Where scripts of drafts run: in the thread in which drafts are computed. */
const openSandbox = () => (sandbox ??= Sandbox.open())

const TOPICS = 12
/** So many topics go into the tree. */
const TREE = 200_000

/** One real message as a draft would send it now, with the values of this moment; and all topics that it would write. */
export async function previewOf(draft: PublicationDraft, world: World, table: LiveTable, o: PreviewOptions): Promise<Preview> {
  const compiled = compile(draft, world, {
    others: o.plans,
    ...(o.publicationId !== undefined && { publicationId: o.publicationId }),
    ...(o.destination && { destination: o.destination }),
  })
  const { body, findings, converted } = compiled
  if (o.held) holdIn(table, o.held)
  if (o.rows && o.rows.problem !== '')
    findings.push({
      severity: 'warns',
      section: 'what',
      message: `No rows now: ${o.rows.problem}`,
      hint: 'Look at the source, or at where its rows stand',
      mend: { label: 'Open sources', href: '/sources' },
      passing: true,
    })
  findings.push(...(await scriptFindings(draft)))
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
  const made =
    shown && !findings.some((f) => (f.section === 'shape' || f.section === 'steps') && f.severity === 'stops')
      ? await oneMessage(draft, compiled, shown, table, o)
      : { topic: null, message: null, heldBy: null }
  return {
    findings,
    topics: topics.slice(0, TOPICS),
    topicCount: new Set(topics).size,
    equipment: shown ? (shown.equipment.length === 1 ? body.equipment[shown.equipment[0]!]!.name : `${shown.equipment.length} equipment`) : null,
    ...made,
    ...(await stepsOf(draft, compiled, shown, table, o.answers ?? [])),
    reach: o.destination
      ? reachOf(loadOf(draft, o.rows?.count ?? body.messages.length, made.message?.bytes ?? null, live && o.rates), o.destination.settings.outboxMb)
      : null,
    leftBehind: behind.slice(0, TOPICS).map(({ place, key }) => (key === '' ? place : `${place}, key ${key}`)),
    leftBehindCount: behind.length,
    tree: topicTree(topics, rateOf(draft, live, o.rates), kindOf(draft.address).levels.separator),
    converted,
  }
}

/** What would be sent, as far as it is known: by the clock, or as the live version does it. */
export function loadOf(
  { trigger }: Pick<PublicationDraft, 'trigger'>,
  messages: number,
  octets: number | null,
  rates: readonly number[] | undefined,
): Load {
  return { perSecond: trigger.kind === 'every' ? messages / trigger.seconds : rates ? rates.reduce((a, b) => a + b, 0) : null, octets }
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

/**
 * How a message of the plan looks with the values of this moment; null: it has nothing to say, or goes through steps that take
 * their time. What is no JSON comes as base64 or text.
 */
export function exampleOf(
  plan: Plan | (PublicationDraft & PlanBody),
  table: LiveTable,
  host: HostFacts,
  answers: readonly LookupAnswer[] = [],
): (place: number) => unknown {
  return (place) => {
    const shown = plan.messages[place]
    if (!shown || plan.stages) return null
    const body = { body: plan, source: [], from: [] }
    const one = planOfOne(plan, body, { ...shown, gates: [] }, 'publicationId' in plan ? plan.publicationId : 'draft')
    const now = Date.now()
    const message = written(one, begun(one, table, now, { host, answers }), now)?.message
    if (!message) return null
    if (message.binary) return { base64: message.payload }
    try {
      return JSON.parse(message.payload) as unknown
    } catch {
      return message.payload
    }
  }
}

/** What is wrong with scripts as they are written. */
async function scriptFindings({ steps = [] }: PublicationDraft): Promise<Preview['findings']> {
  const out: Preview['findings'] = []
  for (const [step, s] of steps.entries()) {
    const problem = s.kind === 'script' ? (await openSandbox()).check(scriptOf(s.code)) : null
    if (problem)
      out.push({
        severity: 'stops',
        section: 'steps',
        message: `Step ${step + 1}, Script: ${problemWords(problem)}`,
        hint: 'Correct the script',
        step,
      })
  }
  return out
}

/** What the steps do to the message that is shown, and the values that it is made from. */
async function stepsOf(
  { steps = [] }: PublicationDraft,
  { source, from }: Compiled,
  shown: Plan['messages'][number] | undefined,
  table: LiveTable,
  answers: readonly LookupAnswer[],
): Promise<Pick<Preview, 'steps' | 'held'>> {
  const one = shown && source[from[shown.equipment[0]!]!]
  if (steps.length === 0 || !one) return { steps: [], held: [] }
  const handles = allTags({ equipment: [one], messages: [shown] })
  return { steps: await stepsShown(steps, one, source, { table, answers }, openSandbox), held: heldOf(table, handles) }
}

type Spoken = Pick<PublicationDraft, 'shape' | 'address' | 'trigger' | 'destinationId' | 'name' | 'steps'>

/** A plan of one message only, so that nothing else is made ready. */
function planOfOne(
  draft: Spoken,
  { body, source, from }: Pick<Compiled, 'body' | 'source' | 'from'>,
  shown: Plan['messages'][number],
  publicationId: string,
): Plan {
  const { shape, address, trigger, destinationId, name } = asPrescribed(draft)
  const own = { publicationId, name, number: 0, delivery: 0, destinationId, trigger, shape, address }
  const places = { places: shown.equipment }
  if (!body.stages) {
    const message = { ...shown, equipment: shown.equipment.map((_, i) => i), ...places }
    return { ...body, ...own, equipment: shown.equipment.map((e) => body.equipment[e]!), messages: [message] }
  }
  // What comes out of a stage stands in places that go through all equipment: here through all that this one became.
  const e = shown.equipment[0]!
  const nth = e - from.indexOf(from[e]!)
  const { equipment, stages } = applySteps(draft.steps ?? [], [source[from[e]!]!])
  const message = { ...shown, equipment: [nth], gates: equipment[nth]!.gates, ...places }
  return {
    ...body,
    ...own,
    equipment: equipment.map(({ members }) => ({ ...body.equipment[e]!, members })),
    messages: [message],
    stages: stages.map((stage) => ({ ...stage, gates: [stage.gates[nth]!] })),
  }
}

async function oneMessage(
  draft: Spoken,
  compiled: Pick<Compiled, 'body' | 'source' | 'from'>,
  shown: Plan['messages'][number],
  table: LiveTable,
  o: Pick<PreviewOptions, 'host' | 'publicationId' | 'answers'>,
): Promise<Pick<Preview, 'topic' | 'message' | 'heldBy'>> {
  const plan = planOfOne(draft, compiled, shown, o.publicationId ?? 'draft')
  const now = Date.now()
  const runner = begun(plan, table, now, o)
  const failedIn = await throughStages(runner, plan, now, openSandbox)
  const made = failedIn === null ? written(plan, runner, now) : null
  if (!made) return { topic: null, message: null, heldBy: failedIn ?? runner.stepCounts.find((c) => c.held > 0)?.step ?? null }
  return { ...made, heldBy: null }
}

/** A plan of one message made ready, with the values of the table. */
function begun(plan: Plan, table: LiveTable, now: number, { host, answers = [] }: Pick<PreviewOptions, 'host' | 'answers'>): Runner {
  const runner = new Runner(plan, host)
  for (const [i, answer] of answers.entries()) runner.answered(i, answer)
  for (const h of runner.handles) {
    table.ensure(h)
    runner.touch(h)
  }
  runner.drain(table, now)
  return runner
}

function written(plan: Plan, runner: Runner, now: number): { topic: string; message: ShownPayload } | null {
  const encoded = runner.encode(0, now, 1)
  if (!encoded) return null
  const decoder = decoderOf(plan.shape, scopeOf(plan, plan.messages[0]!))
  return { topic: encoded.place, message: shownPayload(plan, encoded, packer(plan)(encoded), decoder) }
}

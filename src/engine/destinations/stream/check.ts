import type { CheckStep, Failure } from '~/contract/failure'
import { FailureError, fail } from '~/contract/failure'
import { realClock } from '../../clock/real-clock'
import { reachSteps, runSteps, type StepPlan } from '../../net/steps'
import { type StreamTarget, senderAccess, witnessAccess } from './access'
import { meaningOf } from './answers'
import { noTopic, type Place, type StreamAccess, StreamCluster, streamFailure } from './cluster'
import { askSchemas } from './schemas'

/** A check waits so long for an answer at most, ms. */
const ANSWER_MS = 8000
/** So many partitions of a topic are asked for at most. */
const PARTITIONS = 50

async function connected<T>(access: StreamAccess, work: (cluster: StreamCluster) => Promise<T>): Promise<T> {
  let lost: Failure | null = null
  const cluster = await StreamCluster.open({ ...access, answerMs: ANSWER_MS }, (why) => {
    lost ??= why
  })
  try {
    return await work(cluster)
  } catch (e) {
    throw lost === null ? e : new FailureError(lost, 502)
  } finally {
    cluster.close()
  }
}

const refused = (error: number, place: string, where: Failure['where']) => {
  const { failure } = meaningOf(error, place)
  return fail(502, failure.code, failure.message, failure.hint, where)
}

/** The topics that are to be written to: whether they are there and led. */
async function topicsOf(cluster: StreamCluster, names: readonly string[]): Promise<string> {
  const states = await cluster.topics(names)
  for (const name of names) {
    const { error, leaders } = states.get(name) ?? noTopic
    if (error !== 0) throw refused(error, name, 'destination')
    const without = leaders.findIndex((leader) => leader < 0)
    if (without >= 0) throw refused(5, `${name} ${without}`, 'destination')
  }
  const partitions = names.reduce((n, name) => n + states.get(name)!.leaders.length, 0)
  return `${names.length === 1 ? names[0] : `${names.length} topics`}, ${partitions} ${partitions === 1 ? 'partition' : 'partitions'}`
}

/** Whether every partition may be read: each node is asked where the next record will lie, which is nothing to anybody else. */
async function mayRead(cluster: StreamCluster, names: readonly string[]): Promise<string> {
  const states = await cluster.topics(names)
  for (const name of names) {
    const { error, leaders } = states.get(name) ?? noTopic
    if (error !== 0) throw refused(error, name, 'witness')
    for (const node of new Set(leaders)) {
      if (node < 0) throw refused(5, name, 'witness')
      const places = leaders.flatMap((leader, partition): Place[] => (leader === node ? [{ topic: name, partition }] : [])).slice(0, PARTITIONS)
      const bad = (await cluster.offsets(node, places, 'next')).find((p) => p.error !== 0)
      if (bad) throw refused(bad.error, `${name} ${bad.partition}`, 'witness')
    }
  }
  return names.length > 0 ? `may read ${names.join(', ')}` : 'logged in; what it may read shows at the first go-live'
}

async function counted(cluster: StreamCluster): Promise<string> {
  await cluster.producer()
  return 'each message is kept once, also when an answer is lost'
}

/**
 * Tries everything in order; saves and sends nothing. `topics`: those that publications of it write to. Whether they may be written to
 * shows with the first message: the protocol has no question for it.
 */
export async function* checkStream(target: StreamTarget, topics: readonly string[]): AsyncGenerator<CheckStep> {
  const { settings } = target
  const [first] = senderAccess(target).servers
  const place = `${first!.host}:${first!.port}`
  const steps: StepPlan[] = [
    ...reachSteps(first!.host, first!.port, 'destination'),
    {
      key: 'login',
      label: settings.mechanism === 'none' ? 'Greeting' : 'Log-in',
      run: () =>
        connected(senderAccess(target), async (cluster) => {
          const who = settings.mechanism === 'none' ? 'without a log-in' : `logged in as ${target.credential?.user} by ${settings.mechanism}`
          const { nodes } = await cluster.all()
          return `${who}, ${settings.tls ? 'TLS' : 'without TLS: anybody in between can read and change messages'}; ${nodes} ${nodes === 1 ? 'node' : 'nodes'}`
        }),
    },
    {
      key: 'nodes',
      label: 'Every node',
      run: () =>
        connected(senderAccess(target), async (cluster) => {
          const places = await cluster.greet()
          return `reached ${places.join(', ')}, as the cluster names them`
        }),
    },
    ...(topics.length > 0
      ? [{ key: 'topics', label: 'Topics', run: () => connected(senderAccess(target), (cluster) => topicsOf(cluster, topics)) }]
      : []),
    ...(settings.registryUrl
      ? [
          {
            key: 'schemas',
            label: 'Schema registry',
            run: () => askSchemas(target, realClock),
          },
        ]
      : []),
    ...(settings.acks === 'all' ? [{ key: 'counted', label: 'Counted batches', run: () => connected(senderAccess(target), counted) }] : []),
    ...(settings.witness
      ? [
          {
            key: 'witness',
            label: 'Witness',
            run: () => connected(witnessAccess(target), (cluster) => mayRead(cluster, topics)),
            explain: (e: unknown) => ({ ...streamFailure(e, place), where: 'witness' as const }),
          },
        ]
      : []),
  ]
  yield* runSteps(steps, (e) => streamFailure(e, place))
}

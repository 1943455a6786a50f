import type { MqttClient } from 'mqtt'
import { FailureError } from '~/contract/failure'
import { withSeq } from '~/core/shape/sparkplug-birth'
import type { DestinationSink } from '../driver'
import { hostOnline, type NodeSession } from '../session'

/** How long a connection waits for the receiver that it speaks to, before it says that it is not there, ms. */
const HOST_WAIT_MS = 5000

export interface RunningSession {
  /** Gives a payload its number in the session (Sparkplug 3.0 6.4.5): from 0 at the birth of the node, up to 255 and round. */
  number(payload: string | Uint8Array): Uint8Array
}

const octets = (payload: string | Uint8Array) => (typeof payload === 'string' ? new TextEncoder().encode(payload) : payload)

/**
 * Begins a session of an edge node: listens for commands and for the host that is waited for, then sends the births. They go
 * out again whenever somebody asks for them. When the host goes, the connection ends, and the will says so.
 */
export async function beginSession(client: MqttClient, node: NodeSession, number: number, sink: DestinationSink): Promise<RunningSession> {
  let seq = 0
  const running: RunningSession = { number: (payload) => withSeq(octets(payload), seq++) }
  const births = () => {
    seq = 0
    for (const { topic, payload } of node.births(number, Date.now())) client.publish(topic, Buffer.from(running.number(payload)), { qos: 0 })
  }
  let online = false
  let there: (() => void) | null = null
  let born = false
  const gone = {
    code: 'sparkplug.host-away',
    message: 'The primary host is not there',
    hint: 'Start it, or take its id out of the shape; the outbox holds what comes meanwhile',
    where: 'destination' as const,
  }
  client.on('message', (topic, payload) => {
    if (topic === node.commandTopic) {
      if (born && node.isRebirth(payload)) births()
    } else if (topic === node.hostTopic) {
      online = hostOnline(payload)
      if (online) there?.()
      else if (born) sink.down(gone)
    }
  })
  await client.subscribeAsync([node.commandTopic, ...(node.hostTopic ? [node.hostTopic] : [])], { qos: 1 }).catch((e: unknown) => {
    throw new FailureError({
      code: 'sparkplug.commands',
      message: `The broker does not let it listen to ${node.commandTopic}: ${e instanceof Error ? e.message : String(e)}`,
      hint: 'Give the log-in the permission to read its commands there',
      where: 'destination',
    })
  })
  // What it retains may have come with the subscription.
  if (node.hostTopic && !online)
    await new Promise<void>((done, failed) => {
      const timer = setTimeout(() => failed(new FailureError(gone)), HOST_WAIT_MS)
      const over = () => {
        clearTimeout(timer)
        done()
      }
      there = over
      client.once('close', () => {
        clearTimeout(timer)
        failed(new FailureError({ ...gone, code: 'destination.closed', message: 'The connection was lost while it waited for the primary host' }))
      })
    })
  births()
  born = true
  return running
}

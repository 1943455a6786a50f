import { unpackProperties } from '~/core/delivery/properties'
import type { DestinationDriver } from '../driver'
import { senderAccess, witnessAccess } from './access'
import { checkStream } from './check'
import { StreamCluster } from './cluster'
import { StreamFarEnd } from './far-end'
import { registerSchemas } from './schemas'
import { StreamSender } from './sender'

const KB = 1000

/** Clusters of the Kafka protocol. */
export const streamDriver: DestinationDriver<'stream'> = {
  keepsOnce: true,
  carriesId: () => true,
  protection: ({ settings, credential }) =>
    [
      settings.tls ? (credential?.kind === 'certificate' ? 'TLS, client certificate' : 'TLS') : 'without TLS',
      ...(settings.mechanism === 'none' ? [] : [settings.mechanism]),
    ].join(', '),
  rights: ({ clientId }, reads) => `of ${clientId} to write, or of its witness to read ${reads[0] ?? 'its topics'}`,
  within: ({ topic, properties }) => `${topic}\n${unpackProperties(properties).key}`,
  manner: () => '',
  described: ({ topic, properties }) => `${topic} (key ${unpackProperties(properties).key.slice(0, 100) || 'as the topic'})`,
  dislikes: 'look at its permissions there, its topic, key and size',
  sameSender: (a, b) => JSON.stringify([senderAccess(a), howOf(a.settings)]) === JSON.stringify([senderAccess(b), howOf(b.settings)]),
  sameWitness: (a, b) => JSON.stringify(witnessAccess(a)) === JSON.stringify(witnessAccess(b)),
  check: (target, { filters }) => checkStream(target, [...new Set(filters)]),
  register: registerSchemas,
  farEnd: (target, sink, clock) => new StreamFarEnd(witnessAccess(target), sink, clock),
  async open(target, { sink, clock, remembered }) {
    const cluster = await StreamCluster.open(senderAccess(target), (why) => sink.down(why))
    try {
      return await StreamSender.begin(cluster, howOf(target.settings), sink, clock, remembered)
    } catch (e) {
      cluster.close()
      throw e
    }
  },
}

function howOf(s: Parameters<typeof streamDriver.carriesId>[0]) {
  const { acks, compression, lingerMs, batchKb, window } = s
  return { acks, compression, lingerMs, batch: batchKb * KB, window }
}

import { unwatchFile, watchFile } from 'node:fs'
import { readFile } from 'node:fs/promises'
import { createServer } from 'node:net'
import { join } from 'node:path'
import { Broker } from './broker/broker'
import { Speakers } from './cells/speakers'
import { CompressorServer } from './compressor/server'
import { Gate } from './gate'
import { startHub, type WorksHub } from './hub/works-hub'
import { KilnServer } from './kiln/server'
import { FieldServer } from './modbus/server'
import { worksUnits } from './modbus/units'
import { ObjectStoreStandin } from './objects/objects'
import { Panel } from './panel/panel'
import { demoPki } from './pki'
import {
  brokerUsers,
  compressorLogin,
  deviceLogins,
  kilnLogin,
  objectBucket,
  objectKeys,
  receiverUsers,
  relayGroup,
  schemaUsers,
  streamPermissions,
  streamTopics,
  streamUsers,
} from './plant'
import { standinPorts } from './ports'
import { Receiver } from './receiver/receiver'
import { Relay } from './relay/relay'
import { SchemaRegistry } from './schemas/schemas'
import { Stream } from './stream/stream'

/** So many messages stream and receiver keep. */
const KEPT = 100_000

/** The clock of one hub is off, ms. */
const FELL_AHEAD_MS = 420_000

/** Everything of the works that this machine plays. */
export interface RunningWorks {
  broker: Broker
  kiln: KilnServer
  kilnGate: Gate
  field: FieldServer
  fieldGate: Gate
  compressor: CompressorServer
  stream: Stream
  receiver: Receiver
  objects: ObjectStoreStandin
  relay: Relay
  schemas: SchemaRegistry
  tarn: WorksHub
  fell: WorksHub
  stop(): Promise<void>
}

async function freePort(): Promise<number> {
  const server = createServer()
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  const { port } = server.address() as { port: number }
  await new Promise<void>((done) => server.close(() => done()))
  return port
}

/** Starts broker, kiln and panel on the ports of `base`; certificates and trust lists live in `folder`. */
export async function startWorks(base: number, folder: string): Promise<RunningWorks> {
  const ports = standinPorts(base)
  const pki = await demoPki(join(folder, 'pki'))
  const broker = await Broker.start({
    ports: { plain: ports.brokerPlain, tls: ports.brokerTls, mutual: ports.brokerMutual },
    host: '127.0.0.1',
    ca: pki.ca,
    certificate: pki.broker.certificate,
    key: pki.broker.key,
    users: brokerUsers,
    // How much of its log the broker keeps; measurements switch it off.
    logLimit: Number(process.env.EMBRIK_BROKER_LOG ?? 100_000),
  })
  const trustFile = join(folder, 'kiln-trusts.der')
  const readTrusted = () =>
    readFile(trustFile).then(
      (der) => [der],
      () => [],
    )
  const inner = await freePort()
  const kiln = await KilnServer.start({
    port: inner,
    publicPort: ports.kiln,
    folder: join(folder, 'kiln'),
    login: kilnLogin,
    own: pki.kiln,
    trusted: await readTrusted(),
  })
  // The file may be written anew while the kiln already runs.
  watchFile(trustFile, { interval: 1000, persistent: false }, () => {
    void readTrusted().then(async (certificates) => {
      for (const der of certificates) await kiln.know(der)
    })
  })
  const kilnGate = await Gate.open(ports.kiln, inner)
  const began = Date.now()
  const fieldInner = await freePort()
  const field = await FieldServer.start(
    fieldInner,
    worksUnits(() => (Date.now() - began) / 1000),
  )
  const fieldGate = await Gate.open(ports.field, fieldInner)
  const compressor = await CompressorServer.start(ports.compressor, compressorLogin)
  const { certificate: cert, key } = pki.broker
  const stream = await Stream.start({
    listeners: [{ name: 'tls', ports: [ports.stream, ports.streamSecond], tls: { cert, key }, users: streamUsers }],
    topics: streamTopics,
    permissions: streamPermissions,
    most: KEPT,
  })
  const receiver = await Receiver.start({
    port: ports.receiver,
    tls: { cert, key },
    users: receiverUsers,
    most: KEPT,
  })
  const objects = await ObjectStoreStandin.start({ port: ports.objects, tls: { cert, key }, bucket: objectBucket, keys: objectKeys })
  const schemas = await SchemaRegistry.start({ port: ports.schemas, tls: { cert, key }, users: schemaUsers })
  const relay = await Relay.start({ port: ports.relay, group: relayGroup, groupPort: ports.relayGroup, most: KEPT })
  const tarn = await startHub('token', { hub: ports.tarn, registry: ports.tarnRegistry, events: ports.tarnEvents }, KEPT, folder)
  const fell = await startHub('certificate', { hub: ports.fell, registry: ports.fellRegistry, events: ports.fellEvents }, KEPT, folder)
  fell.hub.skewMs = FELL_AHEAD_MS
  const speakers = Speakers.start(ports.brokerPlain, deviceLogins)
  const panel = await Panel.start(ports.panel, {
    broker,
    kiln,
    kilnGate,
    field,
    fieldGate,
    compressor,
    stream,
    receiver,
    objects,
    relay,
    schemas,
    tarn,
    fell,
  })
  return {
    broker,
    kiln,
    kilnGate,
    field,
    fieldGate,
    compressor,
    stream,
    receiver,
    objects,
    relay,
    schemas,
    tarn,
    fell,
    stop: async () => {
      unwatchFile(trustFile)
      await panel.stop()
      await speakers.stop()
      await fell.stop()
      await tarn.stop()
      await relay.stop()
      await schemas.stop()
      await objects.stop()
      await receiver.stop()
      await stream.stop()
      await compressor.stop()
      await fieldGate.close()
      await field.stop()
      await kilnGate.close()
      await kiln.stop()
      await broker.stop()
    },
  }
}

import { createServer } from 'node:net'

/** Where everything listens, from the base that EMBRIK_PORT_BASE moves. */
export function portsOf(base) {
  return {
    web: base,
    engine: base + 1,
    postgres: base + 2,
    panel: base + 10,
    brokerPlain: base + 11,
    brokerTls: base + 12,
    brokerMutual: base + 13,
    kiln: base + 14,
    field: base + 15,
    compressor: base + 16,
    stream: base + 17,
    streamSecond: base + 29,
    tarn: base + 18,
    tarnRegistry: base + 19,
    fell: base + 20,
    fellRegistry: base + 21,
    tarnEvents: base + 22,
    fellEvents: base + 23,
    receiver: base + 24,
    objects: base + 25,
    schemas: base + 26,
    relay: base + 27,
    relayGroup: base + 28,
  }
}

export function portBase(env = process.env) {
  const text = env.EMBRIK_PORT_BASE ?? '4600'
  const base = Number(text)
  if (!Number.isInteger(base) || base < 1 || base > 65_500) throw new Error(`EMBRIK_PORT_BASE is ${text}: it must be a number from 1 to 65500`)
  return base
}

const names = {
  web: 'web',
  engine: 'engine control',
  postgres: 'PostgreSQL',
  panel: 'stand-in panel',
  brokerPlain: 'site broker',
  brokerTls: 'site broker with TLS',
  brokerMutual: 'site broker with client certificates',
  kiln: 'kiln OPC UA',
  field: 'dryers and meters, Modbus',
  compressor: 'compressor, HTTP',
  stream: 'works stream, first node',
  streamSecond: 'works stream, second node',
  tarn: 'Tarn hub',
  tarnRegistry: 'registry of the Tarn hub, HTTP',
  fell: 'Fell hub',
  fellRegistry: 'registry of the Fell hub, HTTP',
  tarnEvents: 'events of the Tarn hub',
  fellEvents: 'events of the Fell hub',
  receiver: 'works receiver, HTTPS',
  objects: 'works object store, HTTPS',
  schemas: 'schema registry of the works stream, HTTPS',
  relay: 'works relay, UDP',
  relayGroup: 'group of the works relay, UDP',
}

/** Throws one line that names the first port somebody else holds. */
export async function demandFree(ports) {
  for (const [key, port] of Object.entries(ports)) {
    const free = await new Promise((done) => {
      const probe = createServer()
      probe.once('error', () => done(false))
      probe.listen(port, '127.0.0.1', () => probe.close(() => done(true)))
    })
    if (!free) throw new Error(`Port ${port} (${names[key] ?? key}) is taken: free it, or move all ports with EMBRIK_PORT_BASE=${port + 200}`)
  }
}

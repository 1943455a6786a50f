import mqtt, { type MqttClient } from 'mqtt'
import { packingAt, palletiserAt, probesAt, type Speech } from './model'
import { writeSparkplug } from './sparkplug'

const NODE = 'spBv1.0/packing'

/** The devices that speak on the broker by themselves, each with a log-in of its own. */
export class Speakers {
  private readonly clients: MqttClient[] = []
  private readonly timers: NodeJS.Timeout[] = []
  private readonly began = Date.now()
  private seq = 0

  private constructor(
    private readonly port: number,
    private readonly logins: Record<'probes' | 'packing', string>,
  ) {}

  static start(port: number, logins: Record<'probes' | 'packing', string>): Speakers {
    const s = new Speakers(port, logins)
    const seconds = () => (Date.now() - s.began) / 1000
    s.speak(s.connect('probes'), () => probesAt(seconds(), Date.now()))
    s.speak(s.connect('packing'), () => packingAt(seconds()))
    s.palletiser(seconds)
    return s
  }

  private connect(user: 'probes' | 'packing', will?: { topic: string; payload: Buffer }, name: string = user): MqttClient {
    const client = mqtt.connect({
      host: '127.0.0.1',
      port: this.port,
      protocolVersion: 5,
      clientId: `device-${name}`,
      username: user,
      password: this.logins[user],
      reconnectPeriod: 1000,
      queueQoSZero: false,
      ...(will && { will: { ...will, qos: 1 as const, retain: false } }),
    })
    // A broker that is cut or refuses: the client tries again by itself.
    client.on('error', () => undefined)
    this.clients.push(client)
    return client
  }

  private speak(client: MqttClient, all: () => Speech[]): void {
    const said = new Map<string, number>()
    client.on('connect', () => said.clear())
    const tick = () => {
      if (!client.connected) return
      const now = Date.now()
      for (const s of all()) {
        if (now - (said.get(s.topic) ?? Number.NEGATIVE_INFINITY) < s.every * 1000 - 20) continue
        said.set(s.topic, now)
        client.publish(s.topic, typeof s.payload === 'string' ? s.payload : Buffer.from(s.payload), { qos: 1, retain: s.retain }, () => undefined)
      }
    }
    this.timers.push(setInterval(tick, 250))
  }

  private palletiser(seconds: () => number): void {
    const dead = Buffer.from(writeSparkplug(Date.now(), 0, [{ name: 'bdSeq', datatype: 8, value: 0 }]))
    const client = this.connect('packing', { topic: `${NODE}/NDEATH/palletiser 1`, payload: dead }, 'palletiser')
    const send = (topic: string, metrics: Parameters<typeof writeSparkplug>[2]) => {
      if (!client.connected) return
      client.publish(topic, Buffer.from(writeSparkplug(Date.now(), this.seq, metrics)), { qos: 0 }, () => undefined)
      this.seq = (this.seq + 1) % 256
    }
    const born = () => {
      this.seq = 0
      send(`${NODE}/NBIRTH/palletiser 1`, [
        { name: 'bdSeq', datatype: 8, value: 0 },
        { name: 'Node Control/Rebirth', datatype: 11, value: false },
      ])
      send(`${NODE}/DBIRTH/palletiser 1/robot`, palletiserAt(seconds()))
    }
    client.on('connect', () => client.subscribe(`${NODE}/NCMD/palletiser 1`, { qos: 1 }, born))
    client.on('message', born)
    this.timers.push(
      setInterval(() => {
        // Data carry aliases only, as they may after a birth.
        send(
          `${NODE}/DDATA/palletiser 1/robot`,
          palletiserAt(seconds())
            .filter((m) => m.name !== 'pattern')
            .map(({ alias, datatype, value }) => ({ alias, datatype, value })),
        )
      }, 1000),
    )
  }

  async stop(): Promise<void> {
    for (const t of this.timers) clearInterval(t)
    await Promise.all(this.clients.map((c) => new Promise<void>((done) => c.end(true, () => done()))))
  }
}

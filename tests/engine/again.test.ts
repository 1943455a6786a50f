import { afterEach, expect, it } from 'vitest'
import { getAside, listAsides, sentAgain } from '~/store/aside'
import { setRunning } from '~/store/going-live'
import { scene } from './scene'
import { until } from './support'

let s: Awaited<ReturnType<typeof scene>>
afterEach(() => s.end())

it('what a broker would not have is mended and sent again as a message of its own, while its publication runs and when it is paused', {
  timeout: 90_000,
}, async () => {
  const pad = 'x'.repeat(400)
  s = await scene({
    broker: { keyOf: (m) => (m.topic.startsWith('varnmoor/one/') ? m.payload.toString() : null) },
    publication: { topic: 'varnmoor/one/{unit}', steps: [{ kind: 'set', member: 'pad', expression: `n > 1.0 ? "${pad}" : "short"` }] },
  })
  s.faults({ maximumPacketSize: 300 })
  s.gate.cut(1)
  await until(() => s.destination().present().state !== 'running', 'the cut')
  await s.up()
  s.change()
  s.change()
  const asides = () => listAsides(s.t.db, s.destinationId)
  await until(async () => (await asides()).length === 1, 'it to go aside')
  const [aside] = await asides()
  const { aside: whole, delivery, properties } = await getAside(s.t.db, aside!.id)
  const payload = JSON.parse(Buffer.from(whole.payload, 'base64').toString()) as Record<string, unknown>
  expect([whole.kept, whole.octets, whole.again, payload.n]).toEqual([whole.octets, whole.kept, null, 2])

  const mended = Buffer.from(JSON.stringify({ ...payload, pad: 'mended' }))
  const send = (text: Buffer) =>
    s.engine.publications.sendAgain({ delivery, topic: whole.topic, payload: text, properties, assurance: whole.assurance })
  const seq = await send(mended)
  expect(seq).toBeGreaterThan(whole.seq)
  await sentAgain(s.t.db, whole.id, seq, 'Ines')
  const arrived = () => s.b.broker.truth.arrivals.flatMap((a) => (a.key ? [(JSON.parse(a.key) as { pad: string }).pad] : []))
  await until(() => arrived().includes('mended'), 'it to arrive')
  await s.settled()
  expect(s.counts()).toMatchObject({ produced: 3, arrived: 2, rejected: 1, missing: 0, unknown: 0 })
  expect((await asides())[0]!.again).toMatchObject({ seq, by: 'Ines' })

  await setRunning(s.t.db, s.publicationId, false)
  await until(() => s.engine.publicationConditions()[s.publicationId] === undefined, 'the pause')
  await send(Buffer.from(JSON.stringify({ pad: 'while it is paused' })))
  await until(() => arrived().includes('while it is paused'), 'it to arrive')
  await expect(
    s.engine.publications.sendAgain({ delivery: 999, topic: 'a', payload: '', properties: '', assurance: 'acknowledged' }),
  ).rejects.toMatchObject({
    failure: { code: 'aside.nowhere' },
  })
})

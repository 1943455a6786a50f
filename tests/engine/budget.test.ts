// What a publication costs and loses, reckoned from what was recorded, against what it really cost.
import { afterEach, describe, expect, it } from 'vitest'
import { Budget, BudgetSum } from '~/contract/budget'
import type { MqttSettings } from '~/contract/destinations/mqtt'
import type { PublicationDraft } from '~/contract/publication'
import { addCredential } from '~/store/credential'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { recordingSpan } from '~/store/recording'
import { pause, type SceneOptions, scene } from './scene'
import { until } from './support'

let s: Awaited<ReturnType<typeof scene>>
afterEach(() => s.end())

const draftOf = async (): Promise<PublicationDraft> => {
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = await getPublication(s.t.db, s.publicationId)
  return draft
}
/** A wave on each tag, one step each so many ms. */
async function wave(steps: number, everyMs: number): Promise<{ from: number; to: number }> {
  const from = Date.now()
  for (let n = 0; n < steps; n++) {
    const now = Date.now()
    const { handles } = s
    const value = (i: number) => Math.round(1000 * Math.sin((n + 5 * i) / 8)) / 100
    s.engine.table.apply({ handles, values: handles.map((_h, i) => value(i)), statuses: handles.map(() => 0), times: handles.map(() => now) })
    await pause(everyMs)
  }
  const to = Date.now()
  await s.settled()
  return { from, to }
}
/** What is recorded is written every ten seconds. */
const recorded = (to: number) =>
  until(
    async () => {
      s.change()
      return ((await recordingSpan(s.t.db))?.to ?? 0) > to
    },
    'it to be recorded',
    60,
  )
const budget = async (draft: PublicationDraft, from: number, to: number) => Budget.parse(JSON.parse(await s.engine.budget({ draft, from, to })))
const begin = async (o: SceneOptions = {}) => {
  s = await scene({ zones: 3, ...o })
  s.change()
  await s.settled()
}

/** Without TLS, by a log-in. */
const plainly: SceneOptions['prepare'] = async ({ db, vault }) => {
  const login = { name: 'login', kind: 'password' as const, certificate: null, facts: null, user: 'embrik', secret: 'clay-sender-1' }
  return { tls: false, authorityId: null, credentialId: (await addCredential(db, vault, login)).id }
}

describe('octets on the wire are what the model says', () => {
  it.each([
    ['5', 'TLS', 0],
    ['5', 'TLS', 1],
    ['5', 'TLS', 2],
    ['5', 'plain', 1],
    ['3.1.1', 'TLS', 1],
    ['3.1.1', 'plain', 2],
  ] as const)('MQTT %s, %s, QoS %i', async (protocol, over, qos) => {
    const tls = over === 'TLS'
    const settings: Partial<MqttSettings> = { protocol, witness: false }
    await begin({
      ...(!tls && { port: 'plain', prepare: plainly }),
      ...{ settings, publication: { qos } },
    })
    // What went to be connected is not among it.
    const before = { ...s.gate.passed }
    const { from, to } = await wave(150, 12)
    // The last answers may still be on their way.
    let quiet = { ...before }
    await until(async () => {
      await pause(300)
      const now = { ...s.gate.passed }
      const same = now.up === quiet.up && now.down === quiet.down
      quiet = now
      return same
    }, 'the last answers')
    const [out, back] = [s.gate.passed.up - before.up, s.gate.passed.down - before.down]
    const really = BudgetSum.parse(JSON.parse(await s.engine.sentIn(s.publicationId, from, to)))
    expect(really.messages).toBe(450)
    // How many messages TLS puts into one record is a matter of the moment: each has 22 octets around it.
    const off = (is: number, model: number) => Math.abs(model / is - 1)
    expect(off(out, really.wire!.out), `${really.wire!.out} of ${out}`).toBeLessThan(tls ? 0.08 : 0.01)
    if (qos === 0) expect(really.wire!.back).toBe(0)
    else expect(off(back, really.wire!.back), `${really.wire!.back} of ${back}`).toBeLessThan(tls ? 0.4 : 0.01)
  })
})

it('what it would cost is what it cost, and nothing is lost as it is; what others would cost and lose', async () => {
  await begin()
  const { from, to } = await wave(400, 10)
  await recorded(to)
  const draft = await draftOf()
  const asItIs = await budget(draft, from, to)
  const really = BudgetSum.parse(JSON.parse(await s.engine.sentIn(s.publicationId, from, to)))
  expect(asItIs.would.messages).toBe(really.messages)
  expect(asItIs.would.octets).toBe(really.octets)
  expect(Math.abs(asItIs.would.wire!.out / really.wire!.out - 1)).toBeLessThan(0.01)
  expect(asItIs).toMatchObject({ cut: false, compared: 3, lost: { most: 0, rms: 0 }, problems: [] })

  const deadband = await budget({ ...draft, trigger: { kind: 'change', deadband: { kind: 'absolute', size: 2 } } }, from, to)
  expect(deadband.would.messages).toBeLessThan(really.messages / 2)
  // Of waves from -10 to 10 two are a tenth.
  expect(deadband.lost!.most).toBeGreaterThan(0.03)
  expect(deadband.lost!.most).toBeLessThanOrEqual(0.101)
  expect(deadband.lost!.rms).toBeLessThan(deadband.lost!.most)
  for (const m of deadband.members) expect(m.most).toBeLessThanOrEqual(2.001)

  const paced = await budget({ ...draft, pace: { mostS: 1 } }, from, to)
  expect(paced.would.messages).toBeLessThan(deadband.would.messages)
  expect(paced.lost!.rms).toBeGreaterThan(deadband.lost!.rms)

  const packed = await budget({ ...draft, shape: { ...draft.shape, kind: 'cbor' } as PublicationDraft['shape'] }, from, to)
  expect(packed.would).toMatchObject({ messages: really.messages })
  expect(packed.would.octets).toBeLessThan(really.octets)
  expect(packed.lost).toEqual({ most: 0, rms: 0 })

  const gathered = await budget({ ...draft, steps: [{ kind: 'window', seconds: 30, by: 'each', messages: 20 }] }, from, to)
  expect(gathered.would.messages).toBeLessThan(really.messages / 10)
  expect(gathered.lost).toBeNull()

  await changePublication(s.t.db, s.publicationId, { ...draft, name: 'renamed' })
  await expect(budget(draft, from - 7_200_000, from - 3_600_000)).rejects.toMatchObject({ failure: { code: 'budget.nothing' } })
  const unknown = { kind: 'when' as const, condition: 'nothing > 1.0', on: 'while' as const }
  await expect(budget({ ...draft, trigger: unknown }, from, to)).rejects.toMatchObject({ failure: { code: 'budget.stops' } })
})

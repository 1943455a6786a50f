import { createServer, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { FailureError } from '~/contract/failure'
import { Lasting, type LastingState, type LastingTimes } from './lasting'

/** Where silence is what it is about; and where it must not come in between, however busy the machine is. */
const quick: LastingTimes = { silentMs: 120, lostMs: 400, againMs: 30, againMostMs: 60 }
const patient: LastingTimes = { ...quick, silentMs: 60_000, lostMs: 120_000 }
const soon = (check: () => void) => vi.waitFor(check, { timeout: 15_000 })
const closing: (() => void)[] = []
afterEach(() => {
  for (const close of closing.splice(0)) close()
})

/** A server that answers each request as the next of these says, the last one for ever. */
async function served(times: LastingTimes, ...answers: ((res: ServerResponse) => void)[]) {
  let asked = 0
  const server = createServer((_req, res) => answers[Math.min(asked++, answers.length - 1)]!(res))
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const told: (LastingState & { asked: number })[] = []
  const lasting = new Lasting(
    async (signal, alive) => {
      const response = await fetch(url, { signal })
      if (!response.ok) throw new FailureError({ code: 'x', message: `The answer was ${response.status}`, hint: '', where: 'web' }, response.status)
      for await (const _octets of response.body!) alive()
    },
    (state) => told.push({ ...state, asked }),
    times,
  )
  closing.push(() => {
    lasting.stop()
    server.closeAllConnections()
    server.close()
  })
  lasting.start()
  return { told, lasting, asked: () => asked, states: () => told.map((t) => t.state) }
}

const says = (res: ServerResponse) => void res.write('{}\n')

describe('a stream that is to last', () => {
  it('is asked for anew when it ends', async () => {
    const { asked, states } = await served(patient, (res) => res.end('{}\n'), says)
    await soon(() => expect(states()).toEqual(['live', 'old', 'live']))
    expect(asked()).toBe(2)
  })
  it('that says nothing is old first, then asked for anew, as it may be half-open', async () => {
    const { told, asked } = await served(quick, says)
    await soon(() => expect(asked()).toBeGreaterThan(1))
    expect(told.find((t) => t.state === 'old')?.asked).toBe(1)
  })
  it('comes back from a server that is away, saying why it is old meanwhile', async () => {
    const broken = (res: ServerResponse) => void res.writeHead(503).end()
    const { told } = await served(patient, broken, broken, says)
    await soon(() => expect(told.at(-1)?.state).toBe('live'))
    expect(told[0]).toMatchObject({ state: 'old', problem: { message: 'The answer was 503' } })
  })
  it('is not asked for again when it is refused', async () => {
    const { asked, states } = await served(patient, (res) => void res.writeHead(403).end())
    await soon(() => expect(states()).toEqual(['refused']))
    await new Promise((done) => setTimeout(done, patient.againMostMs * 3))
    expect(asked()).toBe(1)
  })
  it('that is stopped tells nothing more', async () => {
    const { told, lasting, asked } = await served(quick, says)
    await soon(() => expect(told.length).toBeGreaterThan(0))
    lasting.stop()
    const [count, times] = [told.length, asked()]
    await new Promise((done) => setTimeout(done, quick.lostMs + 100))
    expect([told.length, asked()]).toEqual([count, times])
  })
})

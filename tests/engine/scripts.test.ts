import { afterEach, beforeAll, describe, expect, it } from 'vitest'
import { realClock } from '~/engine/clock/real-clock'
import type { ScriptInput } from '~/engine/scripts/script'
import { ThreadedScripts } from '~/engine/scripts/scripts'
import { bundled } from '../bundle'

let program: string
beforeAll(async () => {
  program = await bundled('src/engine/scripts/script-thread.ts', 'scripts.mjs')
})

const made: ThreadedScripts[] = []
afterEach(() => {
  for (const s of made.splice(0)) s.stop()
})
const begin = (wallMs?: number) => {
  const s = new ThreadedScripts(program, realClock, wallMs)
  made.push(s)
  return s
}

const input: ScriptInput = {
  message: { n: 1 },
  quality: { n: 'good' },
  time: { n: null },
  equipment: { name: 'Zone 1', class: '', path: [], facts: {} },
  state: '{}',
  now: 0,
}
const script = (code: string) => ({ key: code, code })
/** It searches for longer than anybody waits, in one operation of the interpreter. */
const endless = (mark: number) => script(`const much = "x".repeat(3e6)\nreturn { n: ${mark} + much.indexOf("x".repeat(1e6) + "y") }`)
const n = (s: ThreadedScripts, lane: string, mark: number) => s.run(lane, script(`return { n: ${mark} }`), input)

describe('scripts in their thread', () => {
  it('come back in their order, and leave the loop free', async () => {
    const s = begin()
    const order: number[] = []
    await Promise.all(
      Array.from({ length: 300 }, (_, i) =>
        s.run('one', script('return { n: message.n }'), { ...input, message: { n: i } }).then(() => order.push(i)),
      ),
    )
    expect(order).toEqual(Array.from({ length: 300 }, (_, i) => i))
  })

  it('are ended when they do not end, and nobody else feels it', { timeout: 120_000 }, async () => {
    const s = begin(1000)
    const before = n(s, 'other', 1)
    const hanging = s.run('one', endless(0), input)
    const after = Array.from({ length: 40 }, (_, i) => n(s, i % 2 === 0 ? 'one' : 'other', i))
    expect(await before).toMatchObject({ message: { n: 1 } })
    expect(await hanging).toMatchObject({ kind: 'failed', problem: { message: 'It did not end within 5 s' } })
    expect((await Promise.all(after)).map((o) => o.kind === 'message' && o.message.n)).toEqual(Array.from({ length: 40 }, (_, i) => i))
  })

  it('that do not end again and again are not begun any more, for a while', { timeout: 120_000 }, async () => {
    const s = begin(500)
    for (let i = 0; i < 3; i++)
      expect(await s.run('one', endless(7), input)).toMatchObject({ kind: 'failed', problem: { message: 'It did not end within 5 s' } })
    const begun = performance.now()
    const again = await s.run('one', endless(7), input)
    expect(again).toMatchObject({ kind: 'failed' })
    expect(again.kind === 'failed' && again.problem.message).toContain('3 times')
    expect(performance.now() - begun).toBeLessThan(400)
    expect(await n(s, 'one', 5)).toMatchObject({ message: { n: 5 } })
  })

  it('are checked as they are written', async () => {
    const s = begin()
    expect(await s.check(script('return message'))).toBeNull()
    expect(await s.check(script('let x = = 1'))).toMatchObject({ line: 1 })
  })

  it('of a thousand publications run side by side', { timeout: 120_000 }, async () => {
    const s = begin()
    const all = await Promise.all(Array.from({ length: 1000 }, (_, i) => n(s, `lane ${i}`, i)))
    expect(all.map((o) => o.kind === 'message' && o.message.n)).toEqual(Array.from({ length: 1000 }, (_, i) => i))
  })

  it('do not hold each other up: one that is slow and has many waiting, and one that is quick', { timeout: 120_000 }, async () => {
    const s = begin()
    let slowDone = 0
    const slow = Array.from({ length: 300 }, () =>
      s.run('slow', script('let x = 0\nfor (let i = 0; i < 60000; i++) x += i\nreturn { n: x }'), input).then((o) => {
        expect(o.kind).toBe('message')
        slowDone++
      }),
    )
    await n(s, 'quick', 1)
    expect(slowDone).toBeLessThan(60)
    await Promise.all(slow)
  })

  it('give up the oldest of those that wait when there are too many', { timeout: 120_000 }, async () => {
    const s = begin()
    const all = await Promise.all(
      Array.from({ length: 1100 }, (_, i) => s.run('one', script('return { n: message.n }'), { ...input, message: { n: i } })),
    )
    const failed = all.flatMap((o, i) => (o.kind === 'failed' ? [i] : []))
    expect(failed.length).toBeGreaterThan(0)
    // Those that the thread has already are not given up, the newest least of all.
    expect(Math.min(...failed)).toBeGreaterThan(0)
    expect(all.at(-1)).toMatchObject({ message: { n: 1099 } })
  })

  it('of a program that is not there are told so, and not waited for', { timeout: 60_000 }, async () => {
    const s = new ThreadedScripts('/tmp/nowhere/scripts.mjs', realClock)
    made.push(s)
    const outcome = await n(s, 'one', 1)
    expect(outcome.kind === 'failed' && outcome.problem.message).toContain('Its thread ended')
  })

  it('end when the engine stops', async () => {
    const s = begin()
    const hanging = s.run('one', endless(1), input)
    const waiting = n(s, 'two', 1)
    await new Promise((done) => setTimeout(done, 200))
    s.stop()
    await expect(hanging).rejects.toThrow('The engine stops')
    await Promise.allSettled([waiting])
    await expect(n(s, 'one', 1)).rejects.toThrow('The engine stops')
  })
})

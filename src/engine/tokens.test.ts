import jsonwebtoken from 'jsonwebtoken'
import { expect, it } from 'vitest'
import type { TokenRecipe } from '~/contract/token'
import type { OpenCredential } from '~/store/credential'
import { HeldClock } from './clock/held-clock'
import { Tokens } from './tokens'

const recipe = {
  form: 'jwt',
  algorithm: 'HS256',
  keyAs: 'text',
  keyId: '',
  claims: 'sub: {identity}\naud: {host}\nexp: {ends}',
  lifetimeS: 600,
  marginS: 120,
}
const key = (more: Partial<TokenRecipe> = {}): OpenCredential => ({
  kind: 'token',
  certificate: null,
  user: '{identity}',
  secret: 'k'.repeat(32),
  recipe: { ...recipe, ...more } as TokenRecipe,
})
const about = { host: 'hub.example', port: 8883, identity: 'works-edge-1' }

function begin() {
  const clock = new HeldClock()
  let told = 0
  const tokens = new Tokens(clock, () => told++)
  const end = tokens.watch()
  return { clock, tokens, end, told: () => told, token: async (of = about, k = key()) => (await tokens.login(k, of)).secret! }
}
const endsAt = (token: string) => (jsonwebtoken.decode(token) as { exp: number }).exp * 1000

it('the same token for the same place and identity, another one for each other', async () => {
  const t = begin()
  const one = await t.token()
  t.clock.pass(60_000)
  expect(await t.token()).toBe(one)
  expect(await t.token({ ...about, identity: 'works-edge-2' })).not.toBe(one)
  expect(await t.token({ ...about, host: 'other.example' })).not.toBe(one)
  expect(await t.token(about, key({ lifetimeS: 700 }))).not.toBe(one)
  expect(await t.tokens.login(key(), about)).toMatchObject({ kind: 'password', user: 'works-edge-1', secret: one })
})

it('is due at its margin, and told again until somebody takes a new one', async () => {
  const t = begin()
  const first = await t.token()
  t.clock.pass(479_000)
  expect([t.told(), await t.token()]).toEqual([0, first])
  t.clock.pass(1000)
  expect(t.told()).toBe(1)
  t.clock.pass(10_000)
  expect(t.told()).toBe(1)
  t.clock.pass(5000)
  expect(t.told()).toBe(2)
  const next = await t.token()
  expect(endsAt(next)).toBe(t.clock.wall() + 600_000)
  t.clock.pass(60_000)
  expect([t.told(), await t.token()]).toEqual([2, next])
})

it('one that nobody takes any more is forgotten with its end', async () => {
  const t = begin()
  await t.token()
  t.clock.pass(600_000)
  const told = t.told()
  expect(told).toBeGreaterThan(0)
  t.clock.pass(600_000)
  expect(t.told()).toBe(told)
})

it.each([-3_600_000, 3_600_000, 6000])('a clock that is set by %s ms makes it due at once, since its times are wrong', async (by) => {
  const t = begin()
  const first = await t.token()
  t.clock.set = by
  t.clock.pass(1000)
  expect(t.told()).toBe(1)
  const next = await t.token()
  expect(next).not.toBe(first)
  expect(endsAt(next)).toBe(Math.floor((t.clock.wall() + 600_000) / 1000) * 1000)
  // By the clock as it is now it is good for as long as any.
  t.clock.pass(479_000)
  expect(t.told()).toBe(1)
})

it('a margin that leaves too little leaves half', async () => {
  const t = begin()
  await t.token(about, key({ marginS: 599 }))
  t.clock.pass(299_000)
  expect(t.told()).toBe(0)
  t.clock.pass(1000)
  expect(t.told()).toBe(1)
})

it('a key that cannot sign says so, and what to do', async () => {
  const t = begin()
  const bad = { ...key({ keyAs: 'hex' } as Partial<TokenRecipe>), secret: 'not hex' }
  await expect(t.tokens.login(bad, about)).rejects.toMatchObject({ failure: { code: 'token.key', message: 'The key is not written in hex' } })
  await expect(t.tokens.login({ ...key(), recipe: null }, about)).rejects.toMatchObject({ failure: { code: 'token.recipe' } })
  t.end()
})

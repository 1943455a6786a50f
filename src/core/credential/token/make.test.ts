import { createHmac, generateKeyPairSync } from 'node:crypto'
import jsonwebtoken from 'jsonwebtoken'
import { describe, expect, test } from 'vitest'
import { TokenRecipe } from '~/contract/token'
import { tokenFacts } from '../intake/token'
import { recipeProblems, userFor } from './fill'
import { keyOctets, makeToken, timesOf } from './make'
import { shownToken } from './shown'

const about = { host: 'hub.example', port: 8883, identity: 'works-edge-1' }
const now = Date.UTC(2026, 10, 29, 12, 0, 0)
const clock = { clockTimestamp: now / 1000 + 10 }
const jwt = (algorithm: string, claims: string, more = {}) => TokenRecipe.parse({ form: 'jwt', algorithm, claims, ...more }) as never
const pems = {
  RS256: generateKeyPairSync('rsa', { modulusLength: 2048 }),
  ES256: generateKeyPairSync('ec', { namedCurve: 'prime256v1' }),
}
const pkcs8 = (of: keyof typeof pems) => pems[of].privateKey.export({ type: 'pkcs8', format: 'pem' }).toString()

describe('JWTs are taken by a library that has nothing to do with what made them', () => {
  const claims = 'sub: {identity}\naud: {host}\niat: {now}\nexp: {ends}'

  test.each(['RS256', 'ES256'] as const)('%s', async (algorithm) => {
    const { token, endsAt } = await makeToken(jwt(algorithm, claims, { keyId: '{identity}-1' }), pkcs8(algorithm), about, now)
    const whole = jsonwebtoken.verify(token, pems[algorithm].publicKey, {
      algorithms: [algorithm],
      audience: 'hub.example',
      complete: true,
      ...clock,
    })
    expect(whole.header).toEqual({ alg: algorithm, typ: 'JWT', kid: 'works-edge-1-1' })
    expect(whole.payload).toEqual({ sub: 'works-edge-1', aud: 'hub.example', iat: now / 1000, exp: now / 1000 + 3600 })
    expect(endsAt).toBe(now + 3_600_000)
    expect(tokenFacts(token)?.endsAt).toBe(endsAt)
  })

  test.each([
    ['text', 'a key of both sides, long enough'],
    ['base64', Buffer.from('a key of both sides, long enough').toString('base64')],
    ['hex', Buffer.from('a key of both sides, long enough').toString('hex')],
  ])('HS256 with its key in %s', async (keyAs, key) => {
    const { token } = await makeToken(jwt('HS256', claims, { keyAs }), key, about, now)
    expect(jsonwebtoken.verify(token, 'a key of both sides, long enough', { algorithms: ['HS256'], ...clock })).toMatchObject({ sub: 'works-edge-1' })
    expect(() => jsonwebtoken.verify(token, 'another key of both sides', { algorithms: ['HS256'], ...clock })).toThrow(/signature/)
  })

  test('claims are numbers, lists and texts as they are written; a text of digits that was filled in stays a text', async () => {
    const odd = 'n: 7\nyes: true\nroles: ["a", "b"]\nquoted: "7"\nid: {identity}\nms: {ends.ms}\n# not this\n\nplace: at {host}:{port}'
    const { token } = await makeToken(jwt('HS256', odd, { keyAs: 'text' }), 'k'.repeat(32), { ...about, identity: '4711' }, now)
    expect(jsonwebtoken.decode(token)).toEqual({
      n: 7,
      yes: true,
      roles: ['a', 'b'],
      quoted: '7',
      id: '4711',
      ms: now + 3_600_000,
      place: 'at hub.example:8883',
      iat: undefined,
    })
  })
})

test('an HMAC over a text is what node computes, in each encoding, percent-encoded where that is asked for', async () => {
  const key = Buffer.from([0, 255, 1, 2, 3, 250])
  for (const encoding of ['base64', 'base64url', 'hex'] as const)
    for (const hash of ['SHA-256', 'SHA-384', 'SHA-512'] as const) {
      const recipe = TokenRecipe.parse({
        form: 'hmac',
        hash,
        signed: '{host|url}/{identity}\n{ends}',
        encoding,
        token: 'for={host|url}&s={signature|url}&e={ends}',
        lifetimeS: 600,
      })
      const { token } = await makeToken(recipe, key.toString('base64'), { ...about, host: 'hub.example/a b' }, now)
      const ends = now / 1000 + 600
      const signature = createHmac(hash.replace('-', ''), key).update(`hub.example%2Fa%20b/works-edge-1\n${ends}`).digest(encoding)
      expect(token).toBe(`for=hub.example%2Fa%20b&s=${encodeURIComponent(signature)}&e=${ends}`)
    }
})

test('what is shown has no signature, and needs no key', () => {
  const hmac = TokenRecipe.parse({ form: 'hmac', signed: '{identity}', token: 's={signature|url}' })
  expect(shownToken(hmac, '{host}/{identity}', about, timesOf(hmac, now))).toEqual([
    { name: 'User', text: 'hub.example/works-edge-1' },
    { name: 'Signed text', text: 'works-edge-1' },
    { name: 'Token', text: 's=...' },
  ])
  const shown = shownToken(jwt('HS256', 'exp: {ends}'), '', about, timesOf(hmac, now))
  expect(shown.map((p) => p.text)).toEqual(['{"alg":"HS256","typ":"JWT"}', `{\n  "exp": ${now / 1000 + 3600}\n}`])
})

test('what cannot be used of a recipe is told by field and line', () => {
  expect(recipeProblems(jwt('HS256', 'sub: {identity}\naud: {hots}'), '')['recipe.claims']).toMatch(/^Line 2: \{hots\} is not known/)
  expect(recipeProblems(jwt('HS256', 'just a word'), '')['recipe.claims']).toBe('Line 1: a claim is written name: value')
  expect(recipeProblems(jwt('HS256', 'a: 1\na: 2'), '')['recipe.claims']).toBe('Line 2: a stands there twice')
  expect(recipeProblems(jwt('HS256', 'a: {"deep": {"x": 1}}'), '')).toEqual({})
  expect(recipeProblems(jwt('HS256', 'a: 1', { keyId: '{ends}' }), '{random}')).toEqual({
    user: expect.stringMatching(/\{random\} is not known/),
    'recipe.keyId': expect.stringMatching(/\{ends\} is not known/),
  })
  const hmac = (token: string, signed = '{ends}') => TokenRecipe.parse({ form: 'hmac', signed, token })
  expect(recipeProblems(hmac('no signature'), '')).toEqual({ 'recipe.token': '{signature} must stand in it' })
  expect(recipeProblems(hmac('{signature|wrong}'), '')['recipe.token']).toMatch(/wrong is no filter/)
  expect(recipeProblems(hmac('{signature}', '{signature}'), '')['recipe.signed']).toMatch(/\{signature\} is not known/)
  expect(TokenRecipe.safeParse({ form: 'jwt', claims: '', lifetimeS: 300, marginS: 300 }).error?.issues[0]?.path).toEqual(['marginS'])
})

test('odd values stay whole: nothing in them is taken for a placeholder, or breaks the encoding', async () => {
  const identity = '{signature}/\ud800 {now} __proto__ é€'
  const recipe = TokenRecipe.parse({ form: 'hmac', signed: '{identity}', token: 'i={identity|url}&s={signature}' })
  const { token } = await makeToken(recipe, 'AAECAw==', { ...about, identity }, now)
  expect(token).toContain(`i=${encodeURIComponent(identity.toWellFormed())}&s=`)
  expect(userFor('{identity}', { ...about, identity })).toBe(identity)
  const claims = await makeToken(jwt('HS256', '__proto__: 1\nid: {identity}', { keyAs: 'text' }), 'k', { ...about, identity }, now)
  const body = Buffer.from(claims.token.split('.')[1]!, 'base64url').toString()
  expect(JSON.parse(body).id.toWellFormed()).toBe(identity.toWellFormed())
  expect(body).toContain('"__proto__":1')
})

test('a key that is not written as was said is no key', () => {
  expect(keyOctets('zz', 'hex')).toBeNull()
  expect(keyOctets('abc', 'hex')).toBeNull()
  expect(keyOctets('!!', 'base64')).toBeNull()
  expect(keyOctets('', 'text')).toBeNull()
  expect(keyOctets('-_8=', 'base64')).toEqual(new Uint8Array([251, 255]))
  expect(keyOctets('00 ff\n10', 'hex')).toEqual(new Uint8Array([0, 255, 16]))
})

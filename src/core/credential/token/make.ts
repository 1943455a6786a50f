import { importPKCS8, SignJWT } from 'jose'
import type { KeyText, TokenRecipe } from '~/contract/token'
import { jwtParts, signedText, type TokenAbout, type TokenTimes, tokenAround } from './fill'

/** A token, and when it ends, epoch ms. */
export interface MadeToken {
  token: string
  endsAt: number
}

const ascii = (octets: Uint8Array): string => {
  let text = ''
  for (const octet of octets) text += String.fromCharCode(octet)
  return text
}

/** The octets of a shared key as it is written; null: it is not written so. */
export function keyOctets(key: string, as: KeyText): Uint8Array<ArrayBuffer> | null {
  const text = as === 'text' ? key : key.replace(/\s+/g, '')
  if (text === '') return null
  if (as === 'text') return new TextEncoder().encode(text)
  if (as === 'hex') return /^(?:[0-9a-f]{2})+$/i.test(text) ? Uint8Array.from(text.match(/../g)!, (pair) => Number.parseInt(pair, 16)) : null
  try {
    return Uint8Array.from(atob(text.replaceAll('-', '+').replaceAll('_', '/')), (c) => c.charCodeAt(0))
  } catch {
    return null
  }
}

const encodings = {
  base64: (octets: Uint8Array) => btoa(ascii(octets)),
  base64url: (octets: Uint8Array) => btoa(ascii(octets)).replaceAll('+', '-').replaceAll('/', '_').replace(/=+$/, ''),
  hex: (octets: Uint8Array) => [...octets].map((octet) => octet.toString(16).padStart(2, '0')).join(''),
}

/** When a token that is made at `now` (epoch ms) is good. */
export const timesOf = ({ lifetimeS }: TokenRecipe, now: number): TokenTimes => ({
  now,
  ends: now + lifetimeS * 1000,
  random: crypto.randomUUID(),
})

/** The key cannot be used by this recipe. */
export class TokenKeyError extends Error {}

/** Makes a token; `key` is a shared key as the recipe says it is written, or a private key as PKCS#8 in PEM. */
export async function makeToken(recipe: TokenRecipe, key: string, about: TokenAbout, now: number): Promise<MadeToken> {
  const times = timesOf(recipe, now)
  return { token: recipe.form === 'jwt' ? await jwt(recipe, key, about, times) : await signed(recipe, key, about, times), endsAt: times.ends }
}

function sharedKey(key: string, as: KeyText): Uint8Array<ArrayBuffer> {
  const octets = keyOctets(key, as)
  if (!octets || octets.length === 0) throw new TokenKeyError(as === 'text' ? 'The key is empty' : `The key is not written in ${as}`)
  return octets
}

async function jwt(recipe: Extract<TokenRecipe, { form: 'jwt' }>, key: string, about: TokenAbout, times: TokenTimes): Promise<string> {
  const { header, claims } = jwtParts(recipe, about, times)
  const by = recipe.algorithm === 'HS256' ? sharedKey(key, recipe.keyAs) : await importPKCS8(key, recipe.algorithm)
  return new SignJWT(claims).setProtectedHeader(header).sign(by)
}

async function signed(recipe: Extract<TokenRecipe, { form: 'hmac' }>, key: string, about: TokenAbout, times: TokenTimes): Promise<string> {
  const by = await crypto.subtle.importKey('raw', sharedKey(key, recipe.keyAs), { name: 'HMAC', hash: recipe.hash }, false, ['sign'])
  const text = new TextEncoder().encode(signedText(recipe, about, times))
  const signature = new Uint8Array(await crypto.subtle.sign('HMAC', by, text))
  return tokenAround(recipe, about, times, encodings[recipe.encoding](signature))
}

import { createPrivateKey, type KeyObject, X509Certificate } from 'node:crypto'
import type { CredentialDraft } from '~/contract/credential'
import { FailureError } from '~/contract/failure'
import type { TokenRecipe } from '~/contract/token'
import { CertificateError, certificateFacts } from '~/core/credential/certificate'
import { tokenFacts } from '~/core/credential/intake/token'
import { recipeProblems } from '~/core/credential/token/fill'
import { keyOctets } from '~/core/credential/token/make'
import type { NewCredential } from '~/store/credential'

function refuse(field: string, message: string, hint: string): FailureError {
  return new FailureError({ code: 'credential.invalid', message, hint, where: 'credential', fields: { [field]: message } }, 422)
}

/** Least bits of a key that signs tokens by RSA (RFC 7518 3.3). */
const RSA_LEAST = 2048

/** A shared key as it was typed, or a private key as PKCS#8; refuses one that the recipe cannot sign with. */
function tokenKey(recipe: TokenRecipe, typed: string): string {
  const algorithm = recipe.form === 'hmac' ? 'HS256' : recipe.algorithm
  if (algorithm === 'HS256') {
    const key = typed.trim()
    if (!keyOctets(key, recipe.keyAs)?.length)
      throw refuse('key', `This key is not written in ${recipe.keyAs}`, 'Say how it is written: as text, in base64 or in hex')
    return key
  }
  const key = privateKey(typed)
  const fits =
    algorithm === 'RS256'
      ? key.asymmetricKeyType === 'rsa' && (key.asymmetricKeyDetails?.modulusLength ?? 0) >= RSA_LEAST
      : key.asymmetricKeyType === 'ec' && key.asymmetricKeyDetails?.namedCurve === 'prime256v1'
  if (!fits)
    throw refuse(
      'key',
      algorithm === 'RS256' ? `RS256 needs an RSA key of ${RSA_LEAST} bits or more` : 'ES256 needs a key on the curve P-256',
      'Choose the algorithm that belongs to the key, or paste the other key',
    )
  return key.export({ type: 'pkcs8', format: 'pem' }).toString()
}

/** A key with the recipe by which tokens are made from it. */
function examineToken({ name, user, recipe, key, places }: Extract<CredentialDraft, { kind: 'token' }>): NewCredential {
  const fields = recipeProblems(recipe, user)
  const [first] = Object.values(fields)
  if (first !== undefined)
    throw new FailureError({ code: 'credential.invalid', message: first, hint: 'Correct the recipe', where: 'credential', fields }, 422)
  return { name, kind: 'token', certificate: null, facts: null, user, secret: tokenKey(recipe, key), places, recipe }
}

function privateKey(text: string): KeyObject {
  try {
    return createPrivateKey(text)
  } catch {
    throw /ENCRYPTED/.test(text)
      ? refuse('key', 'This key is locked with a passphrase', 'Unlock it first: openssl pkey -in key.pem -out open.pem')
      : refuse('key', 'This is not a private key that can be read', 'Paste the PEM text, from -----BEGIN ... PRIVATE KEY----- to END')
  }
}

/** Checks that a credential holds together: readable, the key belongs to the certificate, an authority is one. */
export async function examineCredential(draft: CredentialDraft): Promise<NewCredential> {
  if (draft.kind === 'password')
    return {
      name: draft.name,
      kind: 'password',
      certificate: null,
      facts: null,
      user: draft.user,
      secret: draft.password,
      places: draft.places,
      endsAt: tokenFacts(draft.password)?.endsAt ?? null,
    }
  if (draft.kind === 'token') return examineToken(draft)
  let facts: NewCredential['facts']
  try {
    facts = await certificateFacts(draft.certificate)
  } catch (e) {
    if (e instanceof CertificateError) throw refuse('certificate', e.message, 'Paste the PEM text, from -----BEGIN to END-----')
    throw e
  }
  if (draft.kind === 'authority') {
    if (!facts.authority)
      throw refuse('certificate', 'This certificate is not an authority', 'Paste the one that signed it, usually called CA or root')
    return { name: draft.name, kind: 'authority', certificate: draft.certificate, facts, user: null, secret: null }
  }
  const key = privateKey(draft.key)
  if (!new X509Certificate(draft.certificate).checkPrivateKey(key))
    throw refuse('key', 'The key does not belong to this certificate', 'Two files were mixed up: paste the key that was made with it')
  const pem = key.export({ type: 'pkcs8', format: 'pem' }).toString()
  return { name: draft.name, kind: 'certificate', certificate: draft.certificate, facts, user: null, secret: pem }
}

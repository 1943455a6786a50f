import { createPrivateKey, X509Certificate } from 'node:crypto'
import type { CredentialDraft } from '~/contract/credential'
import { FailureError } from '~/contract/failure'
import { CertificateError, certificateFacts } from '~/core/credential/certificate'
import { tokenFacts } from '~/core/credential/intake/token'
import type { NewCredential } from '~/store/credential'

function refuse(field: string, message: string, hint: string): FailureError {
  return new FailureError({ code: 'credential.invalid', message, hint, where: 'credential', fields: { [field]: message } }, 422)
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
  let key: ReturnType<typeof createPrivateKey>
  try {
    key = createPrivateKey(draft.key)
  } catch {
    throw /ENCRYPTED/.test(draft.key)
      ? refuse('key', 'This key is locked with a passphrase', 'Unlock it first: openssl pkey -in key.pem -out open.pem')
      : refuse('key', 'This is not a private key that can be read', 'Paste the PEM text, from -----BEGIN ... PRIVATE KEY----- to END')
  }
  if (!new X509Certificate(draft.certificate).checkPrivateKey(key))
    throw refuse('key', 'The key does not belong to this certificate', 'Two files were mixed up: paste the key that was made with it')
  const pem = key.export({ type: 'pkcs8', format: 'pem' }).toString()
  return { name: draft.name, kind: 'certificate', certificate: draft.certificate, facts, user: null, secret: pem }
}

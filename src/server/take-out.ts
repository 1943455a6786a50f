import { fail } from '~/contract/failure'
import type { KeyDownload } from '~/contract/key-download'
import type { Caller } from '~/contract/person'
import { openCredential } from '~/store/credential'
import { demandPassword } from '~/store/person'
import { database, secrets } from './context'
import { storeKit, zipKit } from './kits'

const endings = { zip: 'zip', pkcs12: 'p12' } as const

/** A certificate with its chain and its key, to be taken elsewhere: only for somebody who types their own password once more. */
export async function takeOut(id: string, { form, phrase, password }: KeyDownload, caller: Caller): Promise<{ name: string; octets: Buffer }> {
  if (caller.kind === 'key')
    throw fail(403, 'take-out.key', 'A key cannot be taken out by an API key', 'Log in as an administrator, and take it out there', 'credential')
  await demandPassword(database(), caller.id, password, 'password')
  const { kind, certificate, secret } = await openCredential(database(), secrets(), id)
  if (kind === 'request' || !certificate || !secret)
    throw fail(
      409,
      'take-out.none',
      'This credential has no key that could be taken out',
      'Only certificates and authorities that were made here have one',
      'credential',
    )
  const parts = { certificate, key: secret }
  const octets = form === 'zip' ? await zipKit(parts, phrase) : await storeKit(parts, phrase)
  return { name: `embrik-${id.slice(0, 8)}.${endings[form]}`, octets }
}

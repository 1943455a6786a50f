import { fail } from '~/contract/failure'
import { KeepHanded } from '~/contract/intake'
import type { Replacement, ReplacementCheck } from '~/contract/replacement'
import { listCredentials, type NewCredential } from '~/store/credential'
import { getDestination } from '~/store/destination'
import { getSource } from '~/store/source'
import { database } from './context'
import { examineCredential } from './credentials'
import { toKeep } from './intake/offers'

async function present(id: string) {
  const one = (await listCredentials(database())).find((c) => c.id === id)
  if (!one) throw fail(404, 'credential.unknown', 'There is no such credential', 'Refresh the list', 'credential')
  if (one.kind === 'request')
    throw fail(409, 'replacement.request', 'A signing request is answered, not replaced', 'Take in the answer', 'credential')
  if (one.issues)
    throw fail(
      409,
      'replacement.signs',
      `${one.name} signs certificates: another one cannot take its place`,
      'Make another authority, and have it trusted beside this one',
      'credential',
    )
  if (one.kind === 'application')
    throw fail(409, 'replacement.own', "Embrik's own certificate is renewed at an OPC UA source", 'Renew it there', 'credential')
  return one
}

/** What a credential is to hold instead, by the same rules as what is kept anew; nothing is kept by this. */
export async function newContent(id: string, replacement: Replacement): Promise<NewCredential> {
  const { name, kind, places } = await present(id)
  const next = await content(replacement, name, places)
  if (next.kind !== kind)
    throw fail(422, 'replacement.kind', `${name} holds something of another kind`, 'Only the same can take its place', 'credential')
  return next
}

async function content(replacement: Replacement, name: string, places: string[]): Promise<NewCredential> {
  if (replacement.by === 'typed') return examineCredential({ kind: 'password', name, user: replacement.user, password: replacement.password, places })
  if (replacement.by === 'key') {
    const { user, recipe, key } = replacement
    return examineCredential({ kind: 'token', name, user, recipe, key, places })
  }
  const [next] = await toKeep(KeepHanded.parse({ ...replacement.handed, keep: [{ id: replacement.offer, name }] }))
  return next!
}

/** What the engine is asked, to try the new one where the old one is used: the path, the body, and who uses it. */
export async function replacementCheck(id: string, { replacement, use }: ReplacementCheck) {
  const next = await newContent(id, replacement)
  const used = (await present(id)).usedBy.some((u) => u.kind === use.kind && u.id === use.id)
  if (!used) throw fail(404, 'replacement.unused', 'This does not use the credential any more', 'Refresh the list', 'credential')
  const { kind, certificate, user, secret, recipe = null } = next
  const instead = { id, credential: { kind, certificate, user, secret, recipe } }
  const of = use.kind === 'destination' ? await getDestination(database(), use.id) : await getSource(database(), use.id)
  return { path: use.kind === 'destination' ? '/destinations/check' : '/sources/check', body: { ...of, instead }, of }
}

import type { IntakeFinding } from '~/contract/intake'
import { certificateFindings, kitFindings } from '~/core/credential/intake/checks'
import { finding } from '~/core/credential/intake/finding'
import { hostFindings, hostsOf } from '~/core/credential/intake/host'
import type { Link } from '~/core/credential/intake/kits'
import { revocationFindings } from '~/core/credential/intake/revoked'
import { tokenFacts, tokenFindings } from '~/core/credential/intake/token'
import type { Roled } from './pieces'
import type { Taken } from './take-in'
import { signerOf, signersIn } from './tokens'

/** Each is held against every key: more of them are not looked at. */
const TOKENS_MOST = 10

/** What is to be known of what was handed over, at `now` (epoch ms). */
export async function findings(taken: Taken, words: readonly Roled[], now: number): Promise<IntakeFinding[]> {
  const { sorted, links, lists } = taken
  const host = words.find((w) => w.role === 'host')?.value ?? null
  return [
    ...sorted.kits.flatMap((kit) => [
      ...certificateFindings(kit.own, 'client', now),
      ...kit.chain.flatMap((l) => certificateFindings(l, 'authority', now)),
      ...kitFindings(kit, links),
    ]),
    ...sorted.authorities.flatMap((l) => certificateFindings(l, 'authority', now)),
    ...sorted.others
      .filter(isServer)
      .flatMap((l) => [...certificateFindings(l, 'server', now), ...(host === null ? [] : hostFindings(l.certificate, host))]),
    ...(await revocationFindings(lists, links, now)),
    ...(await ofTokens(taken, words, now)),
  ]
}

/** Whether a certificate that is nobody's here is that of a server: it names hosts. */
function isServer({ certificate }: Link): boolean {
  const { names, addresses } = hostsOf(certificate)
  return names.length + addresses.length > 0
}

async function ofTokens({ further, links }: Taken, words: readonly Roled[], now: number): Promise<IntakeFinding[]> {
  const value = (role: Roled['role']) => words.find((w) => w.role === role)?.value ?? null
  const beside = { host: value('host'), identity: value('identity') }
  const shared = words.filter((w) => w.role === 'shared-key').map((w) => w.value)
  const signers = signersIn(
    further.filter((t) => t.kind === 'public-key'),
    links,
    shared,
  )
  const found: IntakeFinding[] = []
  const tokens = new Set(words.filter((w) => w.role === 'token').map((w) => w.value))
  for (const text of [...tokens].slice(0, TOKENS_MOST)) {
    const token = tokenFacts(text)
    if (!token) continue
    found.push(...tokenFindings(token, beside, now))
    const signer = await signerOf(text, token.algorithm, signers)
    if (signer === 'none')
      found.push(
        finding('warning', 'token-key', 'None of the keys here signed the token', 'Is it the token of another identity? Ask which key belongs to it'),
      )
    else if (signer)
      found.push(finding('note', 'token-signed', `The token is signed by ${signer.name}`, 'The two belong together: nothing is to be done'))
  }
  return found
}

import { createHash } from 'node:crypto'
import type { ProofReport } from '~/contract/prove'
import { kindOf } from '~/core/address/kinds'
import { sortedText } from '~/core/value/sorted-text'
import { listCredentials } from '~/store/credential'
import { clocksOf } from '../clocks'
import type { Engine } from '../engine'
import type { Publisher } from '../publications/publisher'

/** What is tested, as it is when a run begins. */
export interface Tested {
  /** SHA-256 of each frozen plan, by its publication: of its JSON with the names of all fields in order. */
  plans: ReadonlyMap<string, string>
  destinations: ProofReport['destinations']
  clocks: ProofReport['clocks']
}

const uses: [field: string, use: string][] = [
  ['credentialId', 'own'],
  ['witnessCredentialId', 'of the witness'],
  ['authorityId', 'authority'],
]

/** Versions, certificates and clocks of what is tested. */
export async function testedOf(engine: Engine, publishers: readonly Publisher[]): Promise<Tested> {
  const plans = publishers.map(({ plan }) => [plan.publicationId, createHash('sha256').update(sortedText(plan)).digest('hex')] as const)
  const ids = new Set(publishers.map(({ plan }) => plan.destinationId))
  const credentials = new Map((await listCredentials(engine.options.db)).map((c) => [c.id, c]))
  const destinations = [...ids].flatMap((id) => {
    const to = engine.destinations.get(id)?.destination
    if (!to) return []
    const { name, kind, version, settings } = to
    const fields = settings as unknown as Readonly<Record<string, string | null | undefined>>
    const certificates = uses.flatMap(([field, use]) => {
      const sha256 = credentials.get(fields[field] ?? '')?.facts?.sha256
      return sha256 === undefined ? [] : [{ use, sha256 }]
    })
    return [
      {
        name,
        kind,
        version,
        address: kindOf({ kind })
          .reached(settings as never)
          .join(', '),
        certificates,
      },
    ]
  })
  return { plans: new Map(plans), destinations, clocks: (await clocksOf(engine)).peers }
}

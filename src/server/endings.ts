import type { Credential } from '~/contract/credential'
import type { Ending } from '~/contract/ending'
import { readChain } from '~/core/credential/certificate'
import { nameOf } from '~/core/credential/intake/names'
import { listCredentials } from '~/store/credential'
import type { Conn } from '~/store/database'
import { listKeys } from '~/store/person'
import { listPublications } from '~/store/publication'
import { listSources } from '~/store/source'

type Part = Pick<Ending, 'what' | 'name' | 'from' | 'until'>

/** Each part of a credential that ends: its certificate, what stands in its chain, its revocation lists, the token that it is. */
function partsOf(credential: Credential): Part[] {
  const { name, kind, facts, certificate, endsAt } = credential
  if (facts === null || certificate === null) return endsAt === null ? [] : [{ what: 'token', name, from: null, until: endsAt }]
  const chain = readChain(certificate).slice(1)
  const own: Part = {
    what: kind === 'authority' ? 'authority' : kind === 'application' ? 'application' : 'certificate',
    name,
    from: facts.notBefore,
    until: facts.notAfter,
  }
  return [
    own,
    ...chain.map((c): Part => ({ what: 'chain', name: `${nameOf(c)} in ${name}`, from: c.notBefore.toISOString(), until: c.notAfter.toISOString() })),
    ...(facts.lists ?? []).flatMap((list): Part[] =>
      list.until === null ? [] : [{ what: 'list', name: `of ${name}`, from: null, until: list.until }],
    ),
  ]
}

/** Since when and until when the certificate of a trusted server is good; null: none is kept. */
function serverFacts(pem: string): Pick<Ending, 'from' | 'until'> | null {
  if (pem === '') return null
  try {
    const [own] = readChain(pem)
    return own ? { from: own.notBefore.toISOString(), until: own.notAfter.toISOString() } : null
  } catch {
    return null
  }
}

/** Everything that ends by itself, the soonest first, with what uses it and what stops then; `keys`: API keys too. */
export async function endings(db: Conn, o: { keys: boolean }): Promise<Ending[]> {
  const [credentials, publications, sources, keys] = await Promise.all([
    listCredentials(db),
    listPublications(db),
    listSources(db),
    o.keys ? listKeys(db) : [],
  ])
  const tagsOf = new Map(sources.map((s) => [s.id, s.tagCount]))
  const stops = ({ usedBy }: Credential): Ending['stops'] => {
    const destinations = new Set(usedBy.filter((use) => use.kind === 'destination').map((use) => use.id))
    return {
      publications: publications.filter((p) => p.state === 'live' && destinations.has(p.destinationId)).map((p) => p.name),
      tags: usedBy.reduce((sum, use) => sum + (use.kind === 'source' ? (tagsOf.get(use.id) ?? 0) : 0), 0),
    }
  }
  const all = credentials.flatMap((c) =>
    partsOf(c).map((part, i): Ending => ({ key: `${c.id} ${i}`, credentialId: c.id, ...part, uses: c.usedBy, stops: stops(c) })),
  )
  const ofServers = sources.flatMap((source): Ending[] => {
    const facts = source.kind === 'opcua' && source.settings.mode !== 'None' ? serverFacts(source.settings.serverCertificate ?? '') : null
    if (!facts) return []
    const uses = [{ kind: 'source' as const, id: source.id, name: source.name }]
    return [
      {
        key: `server ${source.id}`,
        credentialId: null,
        name: source.name,
        what: 'server',
        ...facts,
        uses,
        stops: { publications: [], tags: source.tagCount },
      },
    ]
  })
  const ofKeys = keys.flatMap((key): Ending[] => {
    if (key.endsAt === null) return []
    const until = new Date(key.endsAt).toISOString()
    return [{ key: key.id, credentialId: null, name: key.name, what: 'key', from: null, until, uses: [], stops: { publications: [], tags: 0 } }]
  })
  return [...all, ...ofServers, ...ofKeys].sort((a, b) => Date.parse(a.until) - Date.parse(b.until))
}

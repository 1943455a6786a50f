import { proxyUses, type ReachTerms } from '~/contract/broker-reach'
import type { DestinationDraft } from '~/contract/destination'
import { brokerPlace, databasePlace } from '~/contract/place'
import type { SourceDraft } from '~/contract/source'
import { kindOf } from '../address/kinds'

/** Where a source's secret goes, with how it is protected on the way: `'opc.tcp+signandencrypt://kiln:4840'`; null: it has none to send. */
export function sourceReach(s: Pick<SourceDraft, 'kind' | 'settings'>): string | null {
  const one = s as SourceDraft
  switch (one.kind) {
    case 'opcua': {
      const at = /^opc\.tcp:\/\/([^/]+)/i.exec(one.settings.endpoint)?.[1] ?? ''
      return `opc.tcp+${one.settings.mode.toLowerCase()}://${at.includes(':') ? at.toLowerCase() : `${at.toLowerCase()}:4840`}`
    }
    case 'http': {
      const url = new URL(one.settings.url)
      return `${url.protocol}//${url.hostname.toLowerCase()}:${url.port || (url.protocol === 'https:' ? 443 : 80)}`
    }
    case 'sql':
      return databasePlace(one.settings)
    case 'mqtt':
      return brokerPlace(one.settings)
    default:
      return null
  }
}

/** Which credentials a destination or source hands over, the field that names each, and where. */
export interface Use {
  credentialId: string
  field: string
  place: string
}

export function destinationUses({ kind, settings }: Pick<DestinationDraft, 'kind' | 'settings'>): Use[] {
  const places = kindOf({ kind }).reached(settings)
  const of = (credentialId: string | null, field: string, to = places): Use[] =>
    credentialId === null ? [] : to.map((place) => ({ credentialId, field: `settings.${field}`, place }))
  const further = kindOf({ kind }).furtherUses?.(settings) ?? []
  return [
    ...further.map((use) => ({ ...use, field: `settings.${use.field}` })),
    ...of(settings.credentialId, 'credentialId'),
    ...(settings.witness ? of(settings.witnessCredentialId, 'witnessCredentialId', kindOf({ kind }).witnessReached?.(settings)) : []),
  ]
}

export function sourceUses(s: Pick<SourceDraft, 'kind' | 'settings'>): Use[] {
  const { credentialId, ...settings } = s.settings as { credentialId?: string | null } & Partial<ReachTerms>
  const place = sourceReach(s)
  const own = credentialId && place !== null ? [{ credentialId, field: 'settings.credentialId', place }] : []
  return [...own, ...proxyUses(settings).map((use) => ({ ...use, field: `settings.${use.field}` }))]
}

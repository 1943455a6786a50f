import type { DestinationDraft, DestinationKind, DestinationSettings } from '~/contract/destination'
import type { SourceDraft } from '~/contract/source'
import { kindOf } from '~/core/address/kinds'
import { destinationUses, sourceReach } from '~/core/credential/reach'
import type { TokenAbout } from '~/core/credential/token/fill'

/** Host and port of a place: `'mqtts://broker.example:8883'`. */
function hostAt(place: string | null | undefined): Pick<TokenAbout, 'host' | 'port'> {
  const found = /^[^:]+:\/\/(.+):(\d+)$/.exec(place ?? '')
  return { host: found?.[1]?.replace(/^\[|\]$/g, '') ?? '', port: found ? Number(found[2]) : null }
}

/** Of whom a token speaks that is made for a field of a destination's settings. */
export function tokenAbout(
  { kind, settings }: { kind?: DestinationKind; settings: DestinationSettings[DestinationKind] },
  field: string,
): TokenAbout {
  if (!kind) return { host: '', port: null, identity: '' }
  const of = { kind, settings } as Pick<DestinationDraft, 'kind' | 'settings'>
  const used = destinationUses(of).find((use) => use.field === `settings.${field}`)
  const place = used?.place ?? kindOf({ kind }).reached(settings)[0]
  return { ...hostAt(place), identity: kindOf({ kind }).identity?.(settings, field === 'witnessCredentialId') ?? '' }
}

/** The same for a source. */
export function sourceTokenAbout(s: Pick<SourceDraft, 'kind' | 'settings'>): TokenAbout {
  const { clientId = '' } = s.settings as { clientId?: string }
  return { ...hostAt(sourceReach(s)), identity: clientId }
}

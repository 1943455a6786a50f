import type { FoundWay, WayHop, WayHopName, WayOf } from '~/contract/way'
import type { GlyphState } from '~/ui/Glyph'

export const hopLabels: Record<WayHopName, string> = {
  source: 'Source',
  tag: 'Tag',
  member: 'Member',
  publication: 'Publication',
  trigger: 'Trigger',
  step: 'Steps',
  message: 'Message',
  outbox: 'Outbox',
  connection: 'Connection',
  destination: 'Destination',
  witness: 'Far end',
}

export const glyphOf: Record<WayHop['state'], GlyphState> = { fine: 'good', part: 'uncertain', stops: 'bad', waits: 'idle', unknown: 'idle' }

export const stateWords: Record<WayHop['state'], string> = {
  fine: 'gets past',
  part: 'a part gets past',
  stops: 'stops here',
  waits: 'nothing is to go now',
  unknown: 'nobody can say',
}

const at = (path: string, params: Record<string, string>) => `${path}?${new URLSearchParams(params)}`

/** Where a hop is looked into and mended; null: it has no place of its own. */
export function placeOf({ hop, id }: Pick<WayHop, 'hop' | 'id'>, found: Pick<FoundWay, 'of' | 'id'>, publicationId: string | null): string | null {
  switch (hop) {
    case 'source':
      return id === null ? '/sources' : at('/sources', { source: id })
    case 'tag':
      return id === null ? '/tags' : at('/tags', { tag: id })
    case 'member':
      return found.of === 'tag' ? at('/tags', { tag: found.id }) : '/equipment'
    case 'trigger':
    case 'step':
    case 'message': {
      const section = { trigger: 'when', step: 'steps', message: 'shape' }[hop]
      return publicationId === null ? null : at('/publications', { id: publicationId, section })
    }
    case 'publication':
      return publicationId === null ? '/publications' : at('/publications', { id: publicationId })
    case 'outbox':
      return null
    default:
      return id === null ? null : at('/destinations', { id })
  }
}

/** Where the hop of something is found. */
export const findHopOf = (of: WayOf, id: string) => at('/proof/hop', { of, id })

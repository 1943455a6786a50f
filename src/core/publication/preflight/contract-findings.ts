import type { Finding } from '~/contract/publication'
import { some } from '../../address/some'
import { alike, type PlanLike } from '../contract'
import { breaksOf } from './compatibility'

const TOLD = 6

/** In what messages would be other ones than receivers of the live version were told: each kind of message by itself. */
export function contractFindings(live: PlanLike, next: PlanLike): Finding[] {
  const out: Finding[] = []
  const say = (message: string) =>
    out.push({ severity: 'warns', section: 'shape', message, hint: 'Hand receivers the new contract first, or keep what they have been given' })
  if (live.contentType !== next.contentType) say(`Receivers expect ${live.contentType}, and would get ${next.contentType}`)
  const before = new Map(alike(live).map((a) => [a.title, a]))
  for (const now of alike(next)) {
    const was = before.get(now.title)
    if (!was) continue
    if (was.language !== now.language || (was.language !== 'schema' && JSON.stringify(was.description) !== JSON.stringify(now.description))) {
      if (live.contentType === next.contentType) say(`${now.title}: receivers were given another description than it would have`)
      continue
    }
    if (was.language !== 'schema') continue
    const breaks = breaksOf(was.description, now.description)
    if (breaks.length === 0) continue
    const told = breaks.slice(0, TOLD).map((b) => `${b.path || 'the message'} ${b.what}`)
    const more = breaks.length > TOLD ? ` and ${breaks.length - TOLD} more` : ''
    say(`${now.title}: readers of version ${live.number} do not expect this: ${told.join('; ')}${more}`)
  }
  const gone = [...before.keys()].filter((title) => !alike(next).some((a) => a.title === title))
  if (gone.length > 0) say(`No messages of ${some(gone)} would go any more`)
  return out
}

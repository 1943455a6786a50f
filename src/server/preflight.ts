import type { Preflight } from '~/contract/preflight'
import type { Finding, Publication } from '~/contract/publication'
import { stopWords } from '~/core/credential/ending-words'
import { ENDS_SOON_DAYS } from '~/core/credential/validity'
import { getDestination } from '~/store/destination'
import { getPublication } from '~/store/publication'
import { listVersions } from '~/store/version'
import { database } from './context'
import { endings } from './endings'
import { askEngine } from './engine-client'

const DAY_MS = 86_400_000

/** What ends soon of what a publication is sent with. */
async function endingFindings({ destinationId }: Publication): Promise<Finding[]> {
  const soon = Date.now() + ENDS_SOON_DAYS * DAY_MS
  const all = await endings(database(), { keys: false })
  return all.flatMap((e): Finding[] => {
    const until = Date.parse(e.until)
    if (until > soon || !e.uses.some((u) => u.kind === 'destination' && u.id === destinationId)) return []
    const days = Math.ceil((until - Date.now()) / DAY_MS)
    const when = days <= 0 ? 'has ended' : days === 1 ? 'ends within a day' : `ends in ${days} days`
    return [
      {
        severity: 'warns',
        section: 'through',
        message: `${e.name} ${when}`,
        hint: stopWords(e),
        mend: { label: 'Show what ends when', href: '/destinations/credentials?view=ends' },
      },
    ]
  })
}

/** All that is to be known of publications before they go live, one after the other. */
export async function preflight(ids: readonly string[], signal: AbortSignal): Promise<Preflight[]> {
  const out: Preflight[] = []
  for (const id of ids) {
    const draft = await getPublication(database(), id)
    const answer = await askEngine('/publications/preflight', { body: { draft, publicationId: id }, signal })
    const { findings, ...rest } = (await answer.json()) as Omit<Preflight, 'id' | 'name' | 'acceptedBefore'>
    const { enabled, name } = await getDestination(database(), draft.destinationId)
    const off: Finding[] = enabled
      ? []
      : [{ severity: 'warns', section: 'through', message: `${name} is switched off`, hint: 'Messages wait in its outbox until it is switched on' }]
    const [before] = draft.liveVersion === null ? [] : (await listVersions(database(), id)).filter((v) => v.number === draft.liveVersion)
    out.push({
      id,
      name: draft.name,
      acceptedBefore: before?.accepted ?? [],
      findings: [...findings, ...off, ...(await endingFindings(draft))],
      ...rest,
    })
  }
  return out
}

import { FailureError } from '~/contract/failure'
import { type Accepted, findingKey, type Looked, type Preflight, toAccept } from '~/contract/preflight'
import type { Finding, Publication } from '~/contract/publication'
import { stopWords } from '~/core/credential/ending-words'
import { ENDS_SOON_DAYS } from '~/core/credential/validity'
import { demandAsLooked, wholeOf } from '~/store/clauses'
import { getDestination } from '~/store/destination'
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
        passing: true,
        message: `${e.name} ${when}`,
        hint: stopWords(e),
        mend: { label: 'Show what ends when', href: '/destinations/credentials?view=ends' },
      },
    ]
  })
}

/** Clauses that would be sent no more, told with their publication. */
const leaving = (whole: readonly Publication[]): Finding[] =>
  whole
    .filter((p) => p.off && p.state === 'live')
    .map((p) => ({
      severity: 'warns',
      section: 'through',
      message: `${p.name} is switched off, and is sent no more`,
      hint: 'Its account stays',
      told: true,
    }))

/** All that is to be known of publications before they go live, one after the other: of each it is told clause by clause. */
export async function preflight(ids: readonly string[], signal: AbortSignal): Promise<Preflight[]> {
  const out: Preflight[] = []
  const seen = new Set<string>()
  for (const id of ids) {
    const whole = await wholeOf(database(), id)
    const root = whole[0]!
    if (seen.has(root.id)) continue
    seen.add(root.id)
    for (const clause of whole) if (!clause.off) out.push(await clausePreflight(clause, root.id, signal))
    out.find((p) => p.id === root.id)!.findings.push(...leaving(whole))
  }
  return out
}

/**
 * Refuses a go-live with warnings that nobody accepted, and what was changed since somebody looked. Of what is only of this moment
 * whoever looked was told. Gives the drafts that it looked at itself.
 */
export async function demandAccepted(
  id: string,
  accepted: readonly Accepted[],
  looked: readonly Looked[] | undefined,
  signal: AbortSignal,
): Promise<Looked[]> {
  const clauses = await preflight([id], signal)
  const now = clauses.map(({ id, version }) => ({ id, version }))
  if (looked) demandAsLooked(clauses[0]!.name, looked, now)
  const known = new Set(accepted.map(findingKey))
  const open = clauses.flatMap((p) => toAccept(p.findings).filter((f) => !f.passing && !known.has(findingKey(f))))
  const [first] = open
  if (!first) return now
  const more = open.length > 1 ? `, and ${open.length - 1} more` : ''
  throw new FailureError(
    {
      code: 'preflight.not-accepted',
      message: `A warning is not accepted: ${first.message}${more}`,
      hint: 'Mend what it tells, or accept it by name as the preflight has it',
      where: 'publication',
      fields: Object.fromEntries(open.map(({ section }) => [section, open.flatMap((f) => (f.section === section ? [f.message] : [])).join('; ')])),
    },
    409,
  )
}

async function clausePreflight(draft: Publication, rootId: string, signal: AbortSignal): Promise<Preflight> {
  const { id } = draft
  const answer = await askEngine('/publications/preflight', { body: { draft, publicationId: id }, signal })
  const { findings, ...rest } = (await answer.json()) as Omit<Preflight, 'id' | 'rootId' | 'name' | 'version' | 'acceptedBefore'>
  const { enabled, name } = await getDestination(database(), draft.destinationId)
  const off: Finding[] = enabled
    ? []
    : [{ severity: 'warns', section: 'through', message: `${name} is switched off`, hint: 'Messages wait in its outbox until it is switched on' }]
  const [before] = draft.liveVersion === null ? [] : (await listVersions(database(), id)).filter((v) => v.number === draft.liveVersion)
  return {
    id,
    rootId,
    name: draft.name,
    version: draft.version,
    acceptedBefore: before?.accepted ?? [],
    findings: [...findings, ...off, ...(await endingFindings(draft))],
    ...rest,
  }
}

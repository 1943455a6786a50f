import type { Destination } from '~/contract/destination'
import type { Publication, PublicationDraft } from '~/contract/publication'
import { movedTo } from '~/core/address/kinds'
import { sharedOf } from '~/core/publication/clauses'

/** Longest name of a publication, characters. */
export const NAME_MOST = 120

/** Each publication with its further clauses under it. */
export function clauseByClause(publications: readonly Publication[]): Publication[] {
  return publications.filter((p) => p.alsoOf === undefined).flatMap((p) => [p, ...publications.filter((c) => c.alsoOf === p.id)])
}

/** What a further clause is called until somebody calls it otherwise. */
export const clauseName = (root: Pick<Publication, 'name'>, destination: Pick<Destination, 'name'> | undefined): string =>
  (destination ? `${root.name} to ${destination.name}` : root.name).slice(0, NAME_MOST)

/** The same where its publication stands over it: what that one is called is left out. */
export const nameUnder = (name: string, rootName: string | undefined): string =>
  rootName !== undefined && name.startsWith(`${rootName} `) ? name.slice(rootName.length + 1) : name

/** A further clause before anything is written in it: to a destination to which the publication does not speak yet, where there is one. */
export function freshClause(root: Publication, taken: ReadonlySet<string>, destinations: readonly Destination[]): PublicationDraft {
  const destination = destinations.find((d) => !taken.has(d.id)) ?? destinations[0]
  const own = { shape: root.shape, steersOnly: root.steersOnly, alsoOf: root.id }
  const address = destination ? movedTo(root.address, destination).address : root.address
  return { ...sharedOf(root), ...own, name: clauseName(root, destination), address, destinationId: destination?.id ?? '' }
}

/** Whether anything that is written of it, or of one of its clauses, is not live. */
export function editedWhole(root: Publication, clauses: readonly Publication[]): boolean {
  if (root.liveVersion === null) return false
  return [root, ...clauses].some((p) => p.editedSinceLive || (p.liveVersion === null && !p.off))
}

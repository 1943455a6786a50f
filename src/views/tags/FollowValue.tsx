import { useState } from 'react'
import type { FollowedTag } from '~/contract/journal'
import type { Tag } from '~/contract/tag'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { Glyph } from '~/ui/Glyph'
import { Loading } from '~/ui/Notes'
import { durationText, Time } from '~/ui/time'
import { useCall } from '../app/api'
import { MomentField } from '../proof/journal/MomentField'
import { verdictGlyph, verdictMeaning, verdictWords } from '../proof/journal/trail'
import { findHopOf } from '../proof/way/words'
import { Failed } from '../shared/Failed'

/** Where the value of a tag at a moment went: its present one, which came at `received` (epoch ms), or an earlier one. */
export function FollowValue({ tag, received }: { tag: Tag; received: number | null }) {
  const [since, setSince] = useState<number | null>(null)
  if (since === null)
    return (
      <Button
        small
        title="In which message of each publication it went out, and what became of that"
        onClick={() => setSince(received ?? serverNow())}
      >
        Follow its value
      </Button>
    )
  return <Followed tag={tag} since={since} onSince={(t) => setSince(t ?? received ?? serverNow())} />
}

/** `refetchMs`: it is looked again so often. */
export function Followed({ tag, since, onSince, refetchMs }: { tag: Tag; since: number; onSince(t: number | null): void; refetchMs?: number }) {
  const found = useCall('followTag', { params: { id: tag.id }, query: { since }, keepPrevious: true, ...(refetchMs !== undefined && { refetchMs }) })
  return (
    <section aria-label="Where its value went" className="my-2 rounded-sm border border-line bg-paper px-2.5 py-1.5">
      <div className="flex flex-wrap items-center gap-2">
        <MomentField label="Its value of" value={since} onChange={onSince} />
        <Button small busy={found.isFetching} onClick={() => void found.refetch()}>
          Look again
        </Button>
      </div>
      <Failed of={found} />
      {found.isPending && <Loading rows={2} />}
      {found.data?.length === 0 && <p className="mt-1 text-muted">No publication that is live carries it.</p>}
      <ul>
        {found.data?.map((f) => (
          <li key={f.publicationId} className="border-t border-line py-1.5 first:border-0">
            <Fate of={f} since={since} />
          </li>
        ))}
      </ul>
    </section>
  )
}

const HOUR_MS = 3_600_000

function nothingWords(since: number, looked: boolean): string {
  if (!looked) return 'there is too much to look through. Choose a later moment.'
  return serverNow() - since < HOUR_MS ? 'nothing that is stored has carried it yet.' : 'no message carried it within an hour.'
}

function Fate({
  of: { publicationId, publication, destinationId, destination, members, message: m, shared, looked },
  since,
}: {
  of: FollowedTag
  since: number
}) {
  const as = members.join(', ')
  if (!m)
    return (
      <>
        <span className="text-muted">
          {publication}: {nothingWords(since, looked)}{' '}
        </span>
        <a className="text-slate underline" href={findHopOf('publication', publicationId)}>
          Find the hop
        </a>
      </>
    )
  const place = new URLSearchParams({
    to: destinationId,
    of: publicationId,
    message: `${m.delivery}-${m.seq}`,
    until: new Date(m.storedAt + 1000).toISOString(),
  })
  return (
    <>
      <div className="flex items-baseline gap-1.5">
        {m.verdict && <Glyph state={verdictGlyph[m.verdict] ?? 'idle'} title={verdictMeaning[m.verdict]} />}
        <a className="min-w-0 flex-1 text-slate underline" href={`/proof/journal?${place}`}>
          {publication}, no. {m.seq}
        </a>
        <span>{m.verdict && verdictWords[m.verdict]}</span>
      </div>
      <div className="pl-5 text-muted">
        as {as} to {destination}, made <Time at={m.producedAt} />, {durationText(Math.max(0, m.producedAt - since))} after
        {m.hops?.seenAt ? `; seen there ${durationText(Math.max(0, m.hops.seenAt - m.producedAt))} later` : ''}
        {shared && '. Messages without it go to the same place: it may be one of them'}
      </div>
    </>
  )
}

import type { OwnRefusal } from '~/contract/own-view'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Fact, Heading, ProblemNote } from '~/ui/Notes'
import { countText, Time } from '~/ui/time'
import { failureIn, useCall } from '../app/api'

const ASKED_MS = 10_000
const SHOWN = 5

const epoch = (iso: string) => Date.parse(iso)

/** What the receiving side itself says of this sender. */
export function OwnView({ destinationId }: { destinationId: string }) {
  const view = useCall('destinationOwnView', { params: { id: destinationId }, refetchMs: ASKED_MS })
  const said = view.data
  return (
    <section aria-label="What it says itself" className="mt-4">
      <Heading>What it says itself</Heading>
      {view.error && <ProblemNote problem={failureIn(view.error)} action={<Button onClick={() => void view.refetch()}>Ask again</Button>} />}
      {view.isPending && <p className="text-muted">Asks it</p>}
      {said && (
        <>
          {said.connected !== null && (
            <Fact name="Connected" mono={false}>
              <span className="inline-flex items-center gap-1.5">
                <Glyph state={said.connected ? 'good' : 'bad'} /> {said.connected ? 'yes' : 'no'}
              </span>
            </Fact>
          )}
          {said.lastAt !== null && (
            <Fact name="Last message">
              <Time at={epoch(said.lastAt)} date />
            </Fact>
          )}
          {said.taken !== null && <Fact name="Taken">{countText(said.taken)}</Fact>}
          {said.rejected !== null && <Fact name="Rejected">{countText(said.rejected)}</Fact>}
          {said.today !== null && (
            <Fact name="Today">
              {countText(said.today)}
              {said.perDay !== null && ` of ${countText(said.perDay)}`}
            </Fact>
          )}
          <Refusals all={said.refusals} />
          <Fact name="Asked">
            <Time at={epoch(said.askedAt)} />
          </Fact>
        </>
      )}
    </section>
  )
}

function Refusals({ all }: { all: readonly OwnRefusal[] }) {
  if (all.length === 0) return null
  return (
    <ul aria-label="What it rejected" className="my-1 border-l-2 border-line pl-2">
      {all.slice(0, SHOWN).map((r, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other
        <li key={i} className="py-0.5">
          <span className="text-muted">{r.at && <Time at={epoch(r.at)} />}</span> {r.why}
          {r.place && <code className="block font-mono text-[12px] break-all text-muted">{r.place}</code>}
        </li>
      ))}
      {all.length > SHOWN && <li className="text-muted">and {countText(all.length - SHOWN)} before</li>}
    </ul>
  )
}

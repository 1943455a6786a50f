import type { Difference } from '~/core/value/differences'
import { Button } from '~/ui/Button'
import { TableHead } from '~/ui/TableHead'
import { Age } from '~/ui/time'

const differenceHeads = [
  { key: 'what', head: 'What', quiet: true, width: 140 },
  { key: 'theirs', head: 'Saved by somebody else' },
  { key: 'mine', head: 'Yours' },
]

/** Says that what stands here was typed before, and not saved. */
export function KeptNote({ at, onForget }: { at: number; onForget(): void }) {
  return (
    <div role="note" className="flex items-center gap-3 rounded-sm border border-line bg-wash px-3 py-1.5">
      <span className="min-w-0 flex-1">
        You wrote this <Age at={at} /> ago and did not save it.
      </span>
      <Button small onClick={onForget}>
        Go back to what is saved
      </Button>
    </div>
  )
}

/** Somebody else saved while this was written: both are there, and one is chosen. */
export function ConflictNote({
  differ,
  labels = {},
  onTheirs,
  onMine,
}: {
  differ: readonly Difference[]
  labels?: Readonly<Record<string, string>>
  onTheirs(): void
  onMine(): void
}) {
  const label = (path: string) => labels[path] ?? labels[path.split('.')[0]!] ?? path
  return (
    <div role="alert" className="rounded-sm border border-uncertain bg-sheet px-3 py-2">
      <div className="font-semibold">Somebody saved another version while you were writing. Nothing of yours is lost.</div>
      <table className="my-2 w-full" aria-label="Where the two differ">
        <TableHead columns={differenceHeads} />
        <tbody>
          {differ.map((d) => (
            <tr key={d.path} className="border-b border-line/70 align-top">
              <td className="px-2 py-0.5">{label(d.path)}</td>
              <td className="px-2 font-mono text-[12.5px] break-words">{d.theirs}</td>
              <td className="px-2 font-mono text-[12.5px] break-words">{d.mine}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="flex gap-2">
        <Button onClick={onTheirs}>Take theirs</Button>
        <Button onClick={onMine}>Go on with mine</Button>
      </div>
    </div>
  )
}

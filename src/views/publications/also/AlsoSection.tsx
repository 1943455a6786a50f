import { CornerDownRight, Plus } from 'lucide-react'
import type { Destination } from '~/contract/destination'
import type { Publication } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { asPrescribed } from '~/core/publication/prescribed'
import { shapeOf } from '~/core/shape/registry'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { rateText } from '~/ui/time'
import { useMay } from '../../app/caller'
import { useFrame } from '../../app/live/live'
import { glyphOf } from '../../shared/condition'
import { Section } from '../Section'

/** The further clauses of a publication: in what shape, to which address, through which destination each of them speaks. */
export function AlsoSection({
  clauses,
  destinations,
  saved,
  onAdd,
  ...section
}: {
  clauses: readonly Publication[]
  destinations: readonly Destination[]
  /** What a further clause can hang on is there. */
  saved: boolean
  onAdd(): void
  open: boolean
  onToggle(): void
}) {
  const conditions = useFrame('publications')
  const mayEdit = useMay('engineer')
  const nameOf = (p: Publication) => destinations.find((d) => d.id === p.destinationId)?.name ?? 'a destination that is gone'
  return (
    <Section title="And also" summary={clauses.length === 0 ? 'nowhere else' : <b>{clauses.map(nameOf).join(', ')}</b>} findings={[]} {...section}>
      <ul aria-label="Further clauses">
        {clauses.map((p) => {
          const c = p.state === 'live' ? conditions?.[p.id] : undefined
          return (
            <li key={p.id} className="flex items-center gap-2 border-b border-line py-1 last:border-0">
              <CornerDownRight size={12} className="shrink-0 text-muted" aria-hidden />
              <Glyph state={glyphOf(c)} title={c ? c.state : p.state} />
              <a className="min-w-0 flex-1 truncate" href={`/publications?id=${p.id}`} title={p.name}>
                as {shapeOf(p.shape).summary(p.shape as never)} to{' '}
                <code className="rounded-sm bg-well px-1 font-mono text-[12.5px]">
                  {p.shape.kind === 'sparkplug-b' ? 'as Sparkplug has it' : kindOf(p.address).texts(asPrescribed(p).address).place}
                </code>{' '}
                through <b>{nameOf(p)}</b>
                {(p.own || p.onlyClassId) && <span className="text-muted">, only part of it</span>}
              </a>
              <span className="shrink-0 text-muted">{c ? rateText(c.rate) : p.off ? 'off' : p.liveVersion === null ? 'not live yet' : p.state}</span>
            </li>
          )
        })}
      </ul>
      <div className="flex items-center gap-3 pt-1.5">
        <Button small disabled={!mayEdit || !saved} title={saved ? '' : 'Save it first'} onClick={onAdd}>
          <Plus size={14} /> Add a destination
        </Button>
        <span className="text-muted">
          {saved
            ? 'Equipment, trigger and steps stay the same; shape, address and account are its own.'
            : 'Save it first: what it also says hangs on it.'}
        </span>
      </div>
    </Section>
  )
}

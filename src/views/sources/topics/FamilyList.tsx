import { ChevronDown, ChevronRight } from 'lucide-react'
import { Fragment, type KeyboardEvent } from 'react'
import { TableHead } from '~/ui/TableHead'
import { bytesText, countText, rateText } from '~/ui/time'
import { FamilyMatrix } from './FamilyMatrix'
import { carriedWords, type HeardFamily, levelText } from './heard-families'
import type { TopicLeaf } from './topic-tree'

const heads = [
  { key: 'take', head: 'Take', quiet: true, width: 32 },
  { key: 'family', head: 'Family: coloured levels vary' },
  { key: 'carries', head: 'Carries', width: 128 },
  { key: 'topics', head: 'Topics', width: 64, right: true },
  { key: 'rate', head: 'Rate', width: 80, right: true },
  { key: 'size', head: 'Size', width: 80, right: true },
]

/** So many families are listed; the filter finds the others. */
const LISTED = 300

export interface FamilyPicking {
  picked: ReadonlyMap<string, TopicLeaf>
  /** Names of tags by address, of what is a tag already. */
  taken: ReadonlyMap<string, string>
  pick(leaves: readonly TopicLeaf[], on: boolean): void
  /** Whether a leaf is the time or the quality of what stands beside it. */
  role(leaf: TopicLeaf): 'time' | 'quality' | null
  /** What a family gives when it is taken whole: not its times and qualities. */
  whole(family: HeardFamily): TopicLeaf[]
}

interface Props {
  families: readonly HeardFamily[]
  open: string | null
  onOpen(id: string | null): void
  /** The single topic that is looked at. */
  onTopic(topic: string): void
  shown: string | null
  picking: FamilyPicking
}

/** Topics by their pattern: levels that vary stand out, what they carry is one row; a family opens into its leaves by topic. */
export function FamilyList({ families, open, onOpen, onTopic, shown, picking }: Props) {
  const rove = (e: KeyboardEvent<HTMLTableElement>) => {
    const step = e.key === 'ArrowDown' ? 1 : e.key === 'ArrowUp' ? -1 : 0
    if (step === 0 || !(e.target instanceof HTMLElement) || !e.target.matches('[data-family]')) return
    const all = [...e.currentTarget.querySelectorAll<HTMLElement>('[data-family]')]
    all[all.indexOf(e.target) + step]?.focus()
    e.preventDefault()
  }
  return (
    <div className="min-h-0 flex-1 overflow-auto">
      <table className="w-full" aria-label="Families of topics" onKeyDown={rove}>
        <TableHead columns={heads} sticky />
        <tbody>
          {families.slice(0, LISTED).map((family) => (
            // What has the focus keeps it while its pattern grows.
            <Fragment key={family.first}>
              <FamilyRow family={family} open={open === family.id} onOpen={() => onOpen(open === family.id ? null : family.id)} picking={picking} />
              {open === family.id && (
                <tr className="border-b border-line bg-sheet">
                  <td colSpan={6} className="p-3 pl-8">
                    <FamilyMatrix family={family} onTopic={onTopic} shown={shown} picking={picking} />
                  </td>
                </tr>
              )}
            </Fragment>
          ))}
        </tbody>
      </table>
      {families.length > LISTED && <p className="p-3 text-muted">{countText(families.length - LISTED)} more families: filter, or listen on less.</p>}
    </div>
  )
}

function carriesText({ carries, leaves }: HeardFamily): string {
  const words = carriedWords[carries]
  if (carries === 'sparkplug' && leaves.length === 0) return `${words}, names come with its birth`
  if (carries !== 'json' && carries !== 'sparkplug') return words
  return `${words}, ${leaves.length === 1 ? '1 leaf' : `${countText(leaves.length)} leaves`}`
}

function FamilyRow({ family, open, onOpen, picking }: { family: HeardFamily; open: boolean; onOpen(): void; picking: FamilyPicking }) {
  const { picked, taken, pick, whole } = picking
  const leaves = whole(family)
  const free = leaves.filter((leaf) => !taken.has(leaf.address))
  const on = free.filter((leaf) => picked.has(leaf.address)).length
  const name = family.levels.map(levelText).join(' / ')
  return (
    <tr className={`border-b border-line ${open ? 'bg-wash' : 'hover:bg-well/60'}`} data-family-row={family.id}>
      <td className="px-2">
        <input
          type="checkbox"
          className="accent-(--clay)"
          aria-label={`Take all of ${name}`}
          title={free.length === 0 && leaves.length > 0 ? 'All of it are tags already' : undefined}
          checked={free.length === 0 ? leaves.length > 0 : on === free.length}
          ref={(box) => {
            if (box) box.indeterminate = on > 0 && on < free.length
          }}
          disabled={free.length === 0}
          onChange={(e) => pick(free, e.target.checked)}
        />
      </td>
      <td className="px-2 py-[3px]">
        <button
          type="button"
          data-family
          aria-expanded={open}
          aria-label={`${open ? 'Close' : 'Open'} ${name}`}
          onClick={onOpen}
          className="flex w-full items-center gap-1.5 text-left"
        >
          {open ? <ChevronDown size={14} className="shrink-0 text-muted" /> : <ChevronRight size={14} className="shrink-0 text-muted" />}
          <span className="flex min-w-0 flex-wrap gap-x-1 gap-y-0.5">
            {family.levels.map((level, i) => (
              <span
                // biome-ignore lint/suspicious/noArrayIndexKey: levels keep their places
                key={i}
                title={'names' in level ? level.names.slice(0, 40).join(', ') : undefined}
                className={`rounded-sm border px-1.5 font-mono text-[12px] leading-[19px] break-all ${'names' in level ? 'border-clay/40 bg-clay-wash font-semibold text-clay' : 'border-line bg-sheet'}`}
              >
                {levelText(level)}
              </span>
            ))}
          </span>
        </button>
      </td>
      <td className="px-2">{carriesText(family)}</td>
      <td className="px-2 text-right font-mono text-[12.5px]">{countText(family.topics.length)}</td>
      <td className="px-2 text-right font-mono text-[12.5px]">{family.rate > 0 ? rateText(family.rate) : '-'}</td>
      <td className="px-2 text-right font-mono text-[12.5px]">{bytesText(family.bytes)}</td>
    </tr>
  )
}

import type { Difference } from '~/contract/tag'
import { countText } from '~/ui/time'

const SHOWN = 8

/** What is the same for many equipment stands once. */
function grouped(list: readonly Difference[]): (Difference & { count: number })[] {
  const out = new Map<string, Difference & { count: number }>()
  for (const d of list) {
    const key = [d.publication, d.what, d.before, d.after].join('\n')
    const same = out.get(key)
    if (same) same.count++
    else out.set(key, { ...d, count: 1 })
  }
  return [...out.values()]
}

const words = { topic: 'topic', name: 'name', type: 'type', unit: 'unit', value: 'value', gone: 'sent no more', new: 'new' }

/** What receivers would see differently, the same for many equipment as one. */
export function DifferenceList({ found }: { found: readonly Difference[] }) {
  const rows = grouped(found)
  return (
    <ul>
      {rows.slice(0, SHOWN).map((d, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a list that is made anew each time
        <li key={i} className="border-b border-line py-1">
          <div className="text-xs text-muted">
            {d.publication}
            {d.live && ', live'} · {d.count === 1 ? d.equipment : `${countText(d.count)} equipment`} · {words[d.what]}
          </div>
          <div className="font-mono text-[12px] break-all">
            {d.before && <span className={d.after ? 'text-muted' : 'text-bad'}>{d.before}</span>}
            {d.before && d.after && ' → '}
            {d.after}
          </div>
        </li>
      ))}
      {rows.length > SHOWN && <li className="py-1 text-muted">and {countText(rows.length - SHOWN)} more</li>}
    </ul>
  )
}

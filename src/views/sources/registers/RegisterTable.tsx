import { useMemo } from 'react'
import type { RegisterNotation, RegisterQuery } from '~/contract/sources/modbus'
import type { Tag } from '~/contract/tag'
import { formatPlace, parseModbusAddress } from '~/core/source/modbus-address'
import { TableHead } from '~/ui/TableHead'

const place = { key: 'place', head: 'Place' }
const readBy = { key: 'readBy', head: 'Read by' }
const bitHeads = [place, { key: 'state', head: 'State' }, readBy]
const registerHeads = [
  place,
  { key: 'hex', head: 'Hex' },
  { key: 'unsigned', head: 'Unsigned', right: true },
  { key: 'signed', head: 'Signed', right: true },
  { key: 'bits', head: 'Bits', about: 'Bit 15 first' },
  { key: 'text', head: 'Text' },
  readBy,
]

const readable = (b: number) => (b >= 0x20 && b < 0x7f ? String.fromCharCode(b) : '·')

/** Raw registers as they are now: each in the ways that need no choice, with the tags that are read there. */
export function RegisterTable({
  query,
  notation,
  words,
  before,
  at,
  tags,
  bit,
  onPick,
}: {
  query: RegisterQuery
  notation: RegisterNotation
  words: readonly (number | null)[]
  before: readonly (number | null)[]
  at: number
  tags: readonly Tag[]
  /** The bit that is picked in the register at `at`. */
  bit: number | null
  onPick(offset: number, bit: number | null): void
}) {
  const bits = query.area === 'coil' || query.area === 'discrete'
  const users = useMemo(() => {
    const out = new Map<number, string[]>()
    for (const t of tags) {
      const a = parseModbusAddress(t.address)
      if ('problem' in a || a.unit !== query.unit || a.area !== query.area) continue
      for (let i = 0; i < a.words; i++) out.set(a.offset + i, [...(out.get(a.offset + i) ?? []), t.name])
    }
    return out
  }, [tags, query.unit, query.area])
  const step = (by: number) => onPick(Math.min(query.offset + words.length - 1, Math.max(query.offset, at + by)), bits ? 0 : null)
  return (
    <table className="w-full font-mono text-[12.5px]" aria-label="Registers">
      <TableHead columns={bits ? bitHeads : registerHeads} sticky />
      <tbody>
        {words.map((w, i) => {
          const offset = query.offset + i
          const place = formatPlace(query.area, offset, notation)
          const changed = before[i] !== undefined && before[i] !== w
          const named = users.get(offset)
          if (w === null)
            return (
              <tr key={offset} data-register={offset} className="h-[26px] border-b border-line/60 text-muted">
                <td className="px-2">{place}</td>
                <td colSpan={bits ? 1 : 5} className="px-2 font-sans text-xs">
                  no such {bits ? 'bit' : 'register'}
                </td>
                <td className="max-w-48 truncate px-2 font-sans text-[13px] text-bad">{named?.join(', ')}</td>
              </tr>
            )
          return (
            <tr
              key={offset}
              tabIndex={0}
              aria-selected={offset === at}
              data-register={offset}
              onClick={() => onPick(offset, bits ? 0 : null)}
              onKeyDown={(e) => {
                if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
                  e.preventDefault()
                  const to = e.key === 'ArrowDown' ? 1 : -1
                  step(to)
                  ;(e.currentTarget[to === 1 ? 'nextElementSibling' : 'previousElementSibling'] as HTMLElement | null)?.focus()
                }
              }}
              className={`h-[26px] cursor-default border-b border-line/60 outline-none ${offset === at ? 'bg-wash' : 'hover:bg-well/50'}`}
            >
              <td className="px-2 text-muted" title={`offset ${offset}`}>
                {place}
              </td>
              {bits ? (
                <td className={`px-2 ${changed ? 'text-clay' : ''}`}>{w ? '1' : '0'}</td>
              ) : (
                <>
                  <td className={`px-2 ${changed ? 'text-clay' : ''}`}>{w.toString(16).toUpperCase().padStart(4, '0')}</td>
                  <td className="px-2 text-right">{w}</td>
                  <td className="px-2 text-right text-muted">{w > 32_767 ? w - 65_536 : w}</td>
                  <td className="px-2 whitespace-nowrap">
                    {Array.from({ length: 16 }, (_, b) => 15 - b).map((b) => (
                      <button
                        key={b}
                        type="button"
                        tabIndex={-1}
                        title={`bit ${b}`}
                        onClick={(e) => {
                          e.stopPropagation()
                          onPick(offset, b)
                        }}
                        className={`${(w >>> b) & 1 ? 'font-semibold text-ink' : 'text-muted'} ${offset === at && b === bit ? 'bg-clay text-clay-ink' : 'hover:bg-clay-wash'} ${b % 4 === 0 ? 'mr-1' : ''}`}
                      >
                        {(w >>> b) & 1}
                      </button>
                    ))}
                  </td>
                  <td className="px-2 text-muted">{readable(w >>> 8) + readable(w & 0xff)}</td>
                </>
              )}
              <td className="max-w-48 truncate px-2 font-sans text-[13px] text-muted" title={named?.join('\n')}>
                {named?.join(', ')}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

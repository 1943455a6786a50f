import { candidates, decodeText, ordersOf, type RegisterType, registerTypes } from '~/core/value/register'
import { Heading } from '~/ui/Notes'
import { TableHead } from '~/ui/TableHead'

const groups: readonly { label: string; words: 1 | 2 | 4 }[] = [
  { label: '16 bits', words: 1 },
  { label: '32 bits', words: 2 },
  { label: '64 bits', words: 4 },
]

/** A decoded value in as few characters as tell it from the others. */
function valueText(value: number | bigint | null, factor: number): string {
  if (value === null) return '-'
  if (typeof value === 'bigint' && factor === 1) return String(value)
  const n = Number(value) * factor
  if (!Number.isFinite(n)) return String(n)
  if (n !== 0 && (Math.abs(n) >= 1e10 || Math.abs(n) < 1e-4)) return n.toExponential(3)
  return Number.isInteger(n) ? String(n) : String(Number(n.toPrecision(6)))
}

/**
 * Every way to read the registers from `at`: a row a byte order, a column a type. The plausible ones stand out by weight and a
 * mark; the one in use is framed. One click takes one.
 */
export function Decodings({
  words,
  at,
  range,
  factor,
  current,
  onTake,
}: {
  words: readonly (number | null)[]
  at: number
  range: { low: number; high: number } | null
  factor: number
  /** Type and order in use. */
  current: string | null
  onTake: ((type: RegisterType, order: string, value: string) => void) | null
}) {
  const all = new Map(candidates(words, at, range, factor).map((c) => [`${c.type} ${c.order}`, c]))
  const run = words.slice(at, at + 16)
  const end = run.indexOf(null)
  const there = (end < 0 ? run : run.slice(0, end)) as number[]
  const text = decodeText(there, 0, there.length * 2, 'AB') ?? ''
  return (
    <>
      {groups.map(({ label, words: size }) => {
        const types = (Object.keys(registerTypes) as RegisterType[]).filter((t) => registerTypes[t] === size)
        if (there.length < size) return null
        return (
          <section key={label} aria-label={`Decodings of ${label}`}>
            <Heading>{label}</Heading>
            <table className="mb-2 w-full table-fixed font-mono text-[12px]">
              <TableHead
                columns={[{ key: 'order', head: 'Order', width: size === 4 ? 84 : 56 }, ...types.map((t) => ({ key: t, head: t, right: true }))]}
              />
              <tbody>
                {ordersOf(size).map((order) => (
                  <tr key={order} className="border-t border-line/60">
                    <td className="px-2 py-px text-muted">{order}</td>
                    {types.map((type) => {
                      const key = `${type} ${order}`
                      const c = all.get(key)!
                      return (
                        <td key={type} className="p-0">
                          <button
                            type="button"
                            disabled={!onTake}
                            data-decoding={key}
                            data-plausible={c.plausible}
                            aria-pressed={current === key}
                            onClick={() => onTake?.(type, order, valueText(c.value, factor))}
                            title={`${key}: ${String(c.value)}${onTake ? ', click to take it' : ''}`}
                            className={`block w-full truncate rounded-sm border px-1 py-px text-right enabled:hover:bg-wash ${current === key ? 'border-slate' : 'border-transparent'} ${c.plausible ? 'font-semibold text-good' : 'text-muted'}`}
                          >
                            {c.plausible && <span aria-hidden="true">▪ </span>}
                            {valueText(c.value, factor)}
                          </button>
                        </td>
                      )
                    })}
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        )
      })}
      {/^[\x20-\x7e]{3,}/.test(text) && (
        <>
          <Heading>As text</Heading>
          <p className="font-mono text-[12.5px]">{text}</p>
        </>
      )}
    </>
  )
}

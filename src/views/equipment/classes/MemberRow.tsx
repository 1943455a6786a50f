import { ChevronDown, ChevronRight, FunctionSquare, X } from 'lucide-react'
import type { EquipmentClass, Member } from '~/contract/equipment'
import { DataType } from '~/contract/tag'
import { keyFrom, type Typed } from './typed-class'

const box = 'field w-full'

/** A member that a class has from the one that it extends. */
export function InheritedRow({ m, classes }: { m: Member; classes: ReadonlyMap<string, EquipmentClass> }) {
  return (
    <tr className="text-muted">
      <td />
      <td className="px-2 py-1">{m.label}</td>
      <td className="px-2 font-mono text-[12.5px]">{m.key}</td>
      <td className="px-2">{m.classId ? classes.get(m.classId)?.name : m.dataType}</td>
      <td className="px-2">{m.unit}</td>
      <td className="text-center">{m.required ? 'yes' : ''}</td>
      <td className="text-center">{m.many ? 'yes' : ''}</td>
      <td className="text-xs">inherited</td>
    </tr>
  )
}

interface Props {
  m: Typed
  /** Classes that can be a part. */
  others: readonly EquipmentClass[]
  faults: readonly string[]
  open: boolean
  onOpen(): void
  set(change: Partial<Typed>): void
  onMove(by: 1 | -1): void
  onCompute(): void
  onRemove(): void
}

/** One member as it is written: what every one has in a row, and what few have under it. */
export function MemberRow({ m, others, faults, open, onOpen, set, onMove, onCompute, onRemove }: Props) {
  return (
    <>
      <tr className="align-top">
        <td className="pt-1.5">
          <button
            type="button"
            aria-label={`${open ? 'Less' : 'More'} of ${m.label || 'member'}`}
            className="grid size-[22px] place-items-center rounded-sm text-muted hover:bg-well"
            onClick={onOpen}
          >
            {open ? <ChevronDown size={14} /> : <ChevronRight size={14} />}
          </button>
        </td>
        <td className="px-2 py-1">
          <input
            aria-label="Member"
            className={box}
            value={m.label}
            onChange={(e) => set({ label: e.target.value, ...(m.key === keyFrom(m.label) && { key: keyFrom(e.target.value) }) })}
            onKeyDown={(e) => {
              if (!e.altKey || (e.key !== 'ArrowUp' && e.key !== 'ArrowDown')) return
              e.preventDefault()
              onMove(e.key === 'ArrowUp' ? -1 : 1)
            }}
          />
          {faults.map((f) => (
            <div key={f} className="text-xs text-bad" role="alert">
              {f}
            </div>
          ))}
        </td>
        <td className="px-2 py-1">
          <input
            aria-label="Name in payloads"
            className={`${box} font-mono text-[12.5px]`}
            value={m.key}
            onChange={(e) => set({ key: e.target.value })}
          />
        </td>
        <td className="px-2 py-1">
          <select
            aria-label="Type"
            className={box}
            value={m.classId ?? m.dataType}
            onChange={(e) => {
              const type = DataType.safeParse(e.target.value)
              set(type.success ? { dataType: type.data, classId: null } : { classId: e.target.value, calculation: null })
            }}
          >
            {DataType.options.map((d) => (
              <option key={d}>{d}</option>
            ))}
            {others.length > 0 && (
              <optgroup label="A part">
                {others.map((c) => (
                  <option key={c.id} value={c.id}>
                    {c.name}
                  </option>
                ))}
              </optgroup>
            )}
          </select>
        </td>
        <td className="px-2 py-1">
          {!m.classId && <input aria-label="Unit" className={box} value={m.unit} onChange={(e) => set({ unit: e.target.value })} />}
        </td>
        <td className="py-2 text-center">
          <input
            type="checkbox"
            aria-label="Required"
            className="accent-(--clay)"
            checked={m.required}
            onChange={(e) => set({ required: e.target.checked })}
          />
        </td>
        <td className="py-2 text-center">
          <input
            type="checkbox"
            aria-label="List"
            className="accent-(--clay)"
            checked={m.many}
            onChange={(e) => set({ many: e.target.checked, ...(e.target.checked && { calculation: null }) })}
          />
        </td>
        <td className="py-1 text-right whitespace-nowrap">
          <button
            type="button"
            aria-label={`Compute ${m.label || 'member'}`}
            title={m.calculation ? m.calculation.text : 'Compute it the same way in every equipment of the class'}
            disabled={m.classId !== null || m.many}
            className={`inline-grid size-[26px] place-items-center rounded-sm hover:bg-well disabled:opacity-25 ${m.calculation ? 'text-clay' : 'text-muted'}`}
            onClick={onCompute}
          >
            <FunctionSquare size={14} />
          </button>
          <button
            type="button"
            aria-label={`Remove ${m.label || 'member'}`}
            className="inline-grid size-[26px] place-items-center rounded-sm text-muted hover:bg-well"
            onClick={onRemove}
          >
            <X size={14} />
          </button>
        </td>
      </tr>
      {m.calculation && (
        <tr>
          <td />
          <td colSpan={7} className="pb-1 font-mono text-[12px] text-muted">
            = {m.calculation.text}
          </td>
        </tr>
      )}
      {open && <More m={m} set={set} />}
    </>
  )
}

function More({ m, set }: Pick<Props, 'm' | 'set'>) {
  return (
    <tr>
      <td />
      <td colSpan={7} className="pb-2">
        <div className="grid grid-cols-[70px_1fr_60px_1fr] items-center gap-2 rounded-sm border border-line bg-sheet px-3 py-2">
          <span className="text-muted">Described</span>
          <input
            aria-label="Description of the member"
            className={`${box} col-span-3`}
            value={m.description}
            onChange={(e) => set({ description: e.target.value })}
          />
          {!m.classId && (
            <>
              <span className="text-muted">Range</span>
              <span className="flex items-center gap-2">
                <input
                  aria-label="Low"
                  inputMode="decimal"
                  className={`${box} font-mono text-[12.5px]`}
                  value={m.low}
                  onChange={(e) => set({ low: e.target.value })}
                />
                to
                <input
                  aria-label="High"
                  inputMode="decimal"
                  className={`${box} font-mono text-[12.5px]`}
                  value={m.high}
                  onChange={(e) => set({ high: e.target.value })}
                />
              </span>
              <span className="text-muted">Allowed</span>
              <input
                aria-label="Allowed values"
                className={`${box} font-mono text-[12.5px]`}
                placeholder="any; or idle, drying, cooling"
                value={m.allowedText}
                onChange={(e) => set({ allowedText: e.target.value })}
              />
            </>
          )}
        </div>
      </td>
    </tr>
  )
}

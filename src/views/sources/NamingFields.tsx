import type { NamingRule } from '~/core/source/naming'

/** The rule by which names follow from where things were found. */
export function NamingFields({ rule, onChange }: { rule: NamingRule; onChange(r: NamingRule): void }) {
  const box = 'mt-0.5 h-6 w-full rounded-sm border border-line bg-sheet px-1.5 text-[13px] text-ink'
  return (
    <div className="my-2 grid grid-cols-[1fr_120px] gap-2 text-xs text-muted">
      <label>
        Put before names
        <input value={rule.before} placeholder="Packing/" onChange={(e) => onChange({ ...rule, before: e.target.value })} className={box} />
      </label>
      <label>
        Levels left out
        <input
          type="number"
          min={0}
          max={20}
          value={rule.drop}
          onChange={(e) => onChange({ ...rule, drop: Math.max(0, Math.trunc(Number(e.target.value) || 0)) })}
          className={box}
        />
      </label>
    </div>
  )
}

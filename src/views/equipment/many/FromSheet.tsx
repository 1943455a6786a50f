import { useVirtualizer } from '@tanstack/react-virtual'
import { useDeferredValue, useMemo, useRef, useState } from 'react'
import { toast } from 'sonner'
import { type EquipmentPlan, type PlannedEquipment, planEquipment, writeEquipment } from '~/core/equipment/sheet'
import { decodeText } from '~/core/tag/sheet'
import { Button } from '~/ui/Button'
import { Choice } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { Modal } from '~/ui/Modal'
import { ProblemNote } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { saveFile } from '../../shared/save-file'
import { useWork } from '../../shared/useWork'
import { equipmentEdits } from '../edits'
import type { PlantModel } from '../useModel'

/** Writes all equipment to a file that the browser keeps. */
export function exportPlant(model: PlantModel): void {
  // With its mark, spreadsheets take text for UTF-8.
  saveFile('equipment.csv', new Blob(['\ufeff', writeEquipment(model)], { type: 'text/csv;charset=utf-8' }))
  toast(`${countText(model.list.length)} equipment written to equipment.csv`)
}

const glyphs = { add: 'good', change: 'uncertain', same: 'idle', faulty: 'bad' } as const
type Show = 'all' | PlannedEquipment['state']

/** Equipment from a table: what each row would do shows before anything is done. */
export function FromSheet({ model, onClose }: { model: PlantModel; onClose(): void }) {
  const [text, setText] = useState('')
  const [show, setShow] = useState<Show>('all')
  const { busy, run } = useWork()
  const given = useDeferredValue(text)
  const plan = useMemo<EquipmentPlan | { problem: string } | null>(() => {
    if (given.trim() === '') return null
    try {
      return planEquipment(given, model)
    } catch (e) {
      return { problem: e instanceof Error ? e.message : String(e) }
    }
  }, [given, model])
  const good = plan && 'rows' in plan ? plan : null
  const rows = useMemo(() => (good?.rows ?? []).filter((r) => show === 'all' || r.state === show), [good, show])
  const doing = good ? good.counts.add + good.counts.change : 0
  const apply = () =>
    run(async () => {
      if (!good) return
      const done = await equipmentEdits.tell(good.edit, `${countText(good.counts.add)} equipment added, ${countText(good.counts.change)} changed`)
      if (done) onClose()
    })
  const box = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => 26, overscan: 10 })
  return (
    <Modal
      open
      onClose={onClose}
      width={900}
      title="Equipment from a table"
      note="Columns: under (a path with slashes), name, level, class, alias, fact: any, id: any receiver, equipment_id; paste cells or choose a CSV"
      foot={
        <>
          <label className="mr-auto">
            <input
              type="file"
              accept=".csv,.tsv,.txt,text/csv"
              aria-label="CSV file"
              onChange={(e) =>
                void e.target.files?.[0]?.arrayBuffer().then((b) => {
                  setText(decodeText(new Uint8Array(b)).text)
                })
              }
            />
          </label>
          {good && good.counts.faulty > 0 && <span className="text-muted">{countText(good.counts.faulty)} refused, left out</span>}
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={doing === 0} onClick={() => void apply()}>
            {doing === 0 ? 'Nothing to do' : `Apply ${countText(doing)}`}
          </Button>
        </>
      }
    >
      <textarea
        aria-label="Cells"
        spellCheck={false}
        rows={5}
        value={text.length > 20_000 ? `${text.slice(0, 20_000)}\n…` : text}
        readOnly={text.length > 20_000}
        onChange={(e) => setText(e.target.value)}
        placeholder={'under\tname\tlevel\tclass\nVarnmoor / Lower Pit\tClay Prep\tarea\t'}
        className="w-full rounded-sm border border-line bg-sheet px-2 py-1 font-mono text-xs"
      />
      {plan && 'problem' in plan && <ProblemNote problem={{ message: plan.problem, hint: 'Correct the table; nothing is changed' }} />}
      {good && (
        <>
          <div className="my-2 flex items-center gap-3">
            <Choice
              label="Show"
              value={show}
              options={[
                { value: 'all', label: `All ${countText(good.rows.length)}` },
                { value: 'add', label: `Add ${countText(good.counts.add)}` },
                { value: 'change', label: `Change ${countText(good.counts.change)}` },
                { value: 'same', label: `Unchanged ${countText(good.counts.same)}` },
                { value: 'faulty', label: `Refused ${countText(good.counts.faulty)}` },
              ]}
              onChange={(v) => setShow(v)}
            />
            {good.ignored.length > 0 && <span className="truncate text-muted">not a column: {good.ignored.join(', ')}</span>}
          </div>
          <div ref={box} className="h-[280px] overflow-auto rounded-sm border border-line bg-sheet" role="table" aria-label="What the rows would do">
            <div className="relative" style={{ height: virtual.getTotalSize() }}>
              {virtual.getVirtualItems().map((i) => {
                const r = rows[i.index]!
                return (
                  <div
                    key={r.line}
                    role="row"
                    data-plan={r.state}
                    className="absolute left-0 grid w-full grid-cols-[50px_22px_200px_1fr] items-center gap-2 px-2"
                    style={{ height: 26, transform: `translateY(${i.start}px)` }}
                  >
                    <span className="text-right font-mono text-[12px] text-muted">{r.line}</span>
                    <Glyph state={glyphs[r.state]} title={r.state} />
                    <span className="truncate">{r.name}</span>
                    <span className="truncate text-muted">
                      {r.faults.map((f) => `${f.column}: ${f.reason}${f.given ? ` (${f.given})` : ''}`).join('; ') ||
                        r.changes.map((c) => `${c.column}: ${c.old || 'nothing'} → ${c.new || 'nothing'}`).join('; ') ||
                        (r.state === 'add' ? 'new' : 'unchanged')}
                    </span>
                  </div>
                )
              })}
            </div>
          </div>
        </>
      )}
    </Modal>
  )
}

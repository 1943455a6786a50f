import { Upload } from 'lucide-react'
import { useMemo, useRef, useState } from 'react'
import type { Tag } from '~/contract/tag'
import type { GivenRow } from '~/core/tag/plan'
import type { Understood } from '~/core/tag/sheet'
import { Button } from '~/ui/Button'
import { DropArea } from '~/ui/DropArea'
import { Modal } from '~/ui/Modal'
import { ProblemNote, WarnNote } from '~/ui/Notes'
import { bytesText } from '~/ui/time'
import { PlanTable } from './PlanTable'
import type { Around, PlanningTask } from './planning.worker'
import { Bar, useApply } from './useApply'
import { usePlan } from './usePlan'

/** What is brought in: a file, or what was pasted. */
export type Brought = { name: string; text: string } | { name: string; bytes: Uint8Array } | { name: string; heading: string[]; rows: GivenRow[] }

/** Files beyond this are refused before they are read, MB. */
const FILE_MAX = 60

const encodings = ['utf-8', 'windows-1252', 'utf-16le', 'utf-16be']
const separators = { ',': 'comma', ';': 'semicolon', '\t': 'tab', '|': 'bar' } as const

/** A dry run of CSV, XLSX or pasted cells: how they were understood, what each row would do, and then doing it. */
export function ImportDialog({
  brought,
  onBring,
  onClose,
  tags,
  around,
}: {
  brought: Brought | null
  onBring(b: Brought): void
  onClose(): void
  tags: readonly Tag[]
  around: Around
}) {
  const [how, setHow] = useState<Partial<Understood>>({})
  const [sheet, setSheet] = useState<string | undefined>()
  const [large, setLarge] = useState<string | null>(null)
  const input = useRef<HTMLInputElement>(null)
  const workbook = brought !== null && 'bytes' in brought && brought.bytes[0] === 0x50 && brought.bytes[1] === 0x4b
  const task = useMemo<Exclude<PlanningTask, { do: 'write' }> | null>(() => {
    if (!brought) return null
    if ('rows' in brought) return { do: 'rows', heading: brought.heading, rows: brought.rows }
    if ('text' in brought) return { do: 'text', text: brought.text, how }
    return workbook ? { do: 'workbook', bytes: brought.bytes, ...(sheet !== undefined && { sheet }) } : { do: 'bytes', bytes: brought.bytes, how }
  }, [brought, how, sheet, workbook])
  const { planned, problem, progress } = usePlan(task, tags, around)
  const { foot, note, busy } = useApply(progress ? null : (planned?.plan ?? null), onClose)

  const take = async (file: File | undefined) => {
    if (!file) return
    if (file.size > FILE_MAX << 20) return setLarge(`${file.name} has ${bytesText(file.size)}; at most ${FILE_MAX} MB are read at once`)
    setLarge(null)
    setHow({})
    setSheet(undefined)
    onBring({ name: file.name, bytes: new Uint8Array(await file.arrayBuffer()) })
  }
  const u = planned?.understood
  const pick = (label: string, value: string, options: readonly (readonly [string, string])[], on: (v: string) => void) => (
    <label className="flex items-center gap-1.5">
      <span className="text-muted">{label}</span>
      <select value={value} onChange={(e) => on(e.target.value)} className="field">
        {options.map(([v, text]) => (
          <option key={v} value={v}>
            {text}
          </option>
        ))}
      </select>
    </label>
  )
  return (
    <Modal
      open
      onClose={() => !busy && onClose()}
      title={brought ? `Dry run: ${brought.name}` : 'Bring in tags'}
      note={brought ? 'Nothing is changed yet. Tags are found by their id or name.' : 'CSV, XLSX, or cells from a spreadsheet'}
      width={900}
      foot={brought ? foot : undefined}
    >
      <input
        ref={input}
        type="file"
        accept=".csv,.tsv,.txt,.xlsx"
        className="hidden"
        aria-label="File"
        onChange={(e) => void take(e.target.files?.[0])}
      />
      {large && <ProblemNote problem={{ message: large, hint: 'Split it, or leave out columns that stay as they are' }} />}
      {note}
      {!brought && (
        <DropArea onFiles={(list) => void take(list[0])} className="grid place-items-center gap-2 p-8 text-center">
          <Button kind="main" onClick={() => input.current?.click()}>
            <Upload size={14} /> Choose a file
          </Button>
          <p className="text-muted">or drop one here, or paste cells below.</p>
          <textarea
            aria-label="Cells"
            placeholder={'name\tsource\taddress\tunit'}
            className="h-24 w-full max-w-xl rounded-sm border border-line bg-sheet p-2 font-mono text-xs"
            onChange={(e) => e.target.value.includes('\n') && onBring({ name: 'pasted cells', text: e.target.value })}
          />
          <p className="max-w-xl text-muted">
            The first row holds the names of the columns. Export a few tags to see them all; the guide explains each. Columns that you leave out stay
            as they are.
          </p>
        </DropArea>
      )}
      {brought && (
        <>
          {!('rows' in brought) && (
            <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-1 text-xs" data-understood>
              {workbook &&
                planned &&
                planned.sheets.length > 1 &&
                pick(
                  'Sheet',
                  planned.sheet,
                  planned.sheets.map((s) => [s, s] as const),
                  setSheet,
                )}
              {!workbook &&
                'bytes' in brought &&
                u &&
                pick(
                  'Encoding',
                  u.encoding,
                  encodings.map((e) => [e, e] as const),
                  (encoding) => setHow({ ...how, encoding }),
                )}
              {!workbook &&
                u &&
                pick('Separator', u.separator, Object.entries(separators), (s) => setHow({ ...how, separator: s as Understood['separator'] }))}
              {!workbook &&
                u &&
                pick(
                  'Fractions',
                  u.decimal,
                  [
                    ['.', 'point: 1.5'],
                    [',', 'comma: 1,5'],
                  ],
                  (d) => setHow({ ...how, decimal: d as Understood['decimal'] }),
                )}
              {u?.remarks.map((r) => (
                <span key={r} className="text-muted">
                  {r}
                </span>
              ))}
            </div>
          )}
          {problem && <ProblemNote problem={problem} />}
          {progress && <Bar {...progress} what="Looking at rows:" />}
          {planned && planned.plan.ignored.length > 0 && (
            <div className="mb-2">
              <WarnNote>Left out, since no column is called so: {planned.plan.ignored.slice(0, 8).join(', ')}</WarnNote>
            </div>
          )}
          {planned && !problem && <PlanTable plan={planned.plan} />}
        </>
      )}
    </Modal>
  )
}

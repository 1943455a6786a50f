import type { SourceKind } from '~/contract/source'
import type { Tag } from '~/contract/tag'
import { surroundings } from '~/core/tag/columns'
import { flatten } from '~/core/tag/flat'
import { type GivenRow, PlanError, planRows } from '~/core/tag/plan'
import { readBytes, readText, type Sheet, type Understood, type WriteHow, writeText } from '~/core/tag/sheet'
import { readWorkbook, writeWorkbook } from '~/core/tag/workbook'

/** What stands around the tags, in a form that can be sent to a worker. */
export interface Around {
  sources: readonly { id: string; name: string; kind: SourceKind }[]
  groups: readonly { id: string; name: string }[]
}

export type PlanningTask =
  | { do: 'text'; text: string; how: Partial<Understood> }
  | { do: 'bytes'; bytes: Uint8Array; how: Partial<Understood> }
  | { do: 'workbook'; bytes: Uint8Array; sheet?: string }
  | { do: 'rows'; heading: string[]; rows: GivenRow[] }
  | { do: 'write'; columns: string[]; how: WriteHow | 'XLSX' }

export interface PlanningRequest {
  task: PlanningTask
  tags: readonly Tag[]
  around: Around
}

async function run({ task, tags, around: a }: PlanningRequest): Promise<void> {
  const around = surroundings(a.sources, a.groups)
  if (task.do === 'write') {
    const flats = tags.map((t) => flatten(t, around))
    const made = task.how === 'XLSX' ? await writeWorkbook(flats, task.columns) : writeText(flats, task.columns, task.how)
    postMessage({ written: made })
    return
  }
  let sheets: string[] = []
  let picked = ''
  let sheet: Pick<Sheet, 'heading' | 'rows' | 'decimal'> & Partial<Sheet>
  if (task.do === 'rows') sheet = { heading: task.heading, rows: task.rows, decimal: '.' }
  else if (task.do === 'workbook') {
    const read = await readWorkbook(task.bytes, task.sheet)
    sheet = read.sheet
    sheets = read.sheets
    picked = read.name
  } else sheet = task.do === 'text' ? readText(task.text, task.how) : readBytes(task.bytes, task.how)
  const steps = planRows({ heading: sheet.heading, rows: sheet.rows, decimal: sheet.decimal, tags, around })
  for (;;) {
    const step = steps.next()
    if (step.done) {
      const { encoding = '', separator = ',', decimal, remarks = [] } = sheet
      postMessage({ plan: step.value, understood: { encoding, separator, decimal, remarks }, sheets, sheet: picked })
      return
    }
    postMessage({ done: step.value, total: sheet.rows.length })
  }
}

addEventListener('message', (e: MessageEvent<PlanningRequest>) => {
  run(e.data).catch((error: unknown) => {
    const known = error instanceof PlanError
    postMessage({
      problem: {
        message: known ? error.message : `It cannot be read: ${error instanceof Error ? error.message : String(error)}`,
        hint: known ? error.hint : 'Save it anew as CSV or XLSX',
      },
    })
  })
})

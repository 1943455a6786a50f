import { useRef, useState } from 'react'
import type { Step } from '~/contract/step'
import { tableFrom } from '~/core/publication/steps/table'
import { Button } from '~/ui/Button'
import { DropArea } from '~/ui/DropArea'
import { countText } from '~/ui/time'
import type { StepFieldsProps } from './fields'
import { Line, MemberInput, optional } from './parts'

type Lookup = Extract<Step, { kind: 'lookup' }>

const SHOWN = 8
/** The most that is read of a file, octets. */
const FILE_MOST = 4_000_000

/** In which table something is looked up: brought in as a file, shown with its first rows. */
export function TableFields({ step, members, error, onChange }: StepFieldsProps<Lookup>) {
  const { columns, rows } = step.table
  const [problem, setProblem] = useState<string | null>(null)
  const picker = useRef<HTMLInputElement>(null)
  const take = async (file: File | undefined) => {
    if (!file) return
    if (file.size > FILE_MOST) return setProblem(`${file.name} has ${countText(file.size)} octets: ${countText(FILE_MOST)} are possible`)
    const found = tableFrom(new Uint8Array(await file.arrayBuffer()))
    if ('problem' in found) return setProblem(`${file.name}: ${found.problem}`)
    setProblem(null)
    onChange({ ...step, table: found.table })
  }
  return (
    <>
      <Line label="looks up" error={error('member')}>
        <MemberInput label="Member" value={step.member} members={members.map((m) => m.key)} onChange={(member) => onChange({ ...step, member })} />
      </Line>
      <Line
        label="in"
        error={
          problem ?? error('table.rows') ?? error('table.columns') ?? (rows.length === 0 && error('table.columns.0') ? 'Take in a file' : undefined)
        }
      >
        <DropArea onFiles={(files) => void take(files[0])} className="px-2 py-1.5">
          {rows.length === 0 ? (
            <span className="text-muted">A CSV file: its first row names the columns, its first column is what is looked up.</span>
          ) : (
            <div className="overflow-x-auto">
              <table className="text-[12.5px]" aria-label="Table">
                <thead>
                  <tr>
                    {columns.map((c) => (
                      <th key={c} scope="col" className="border-b border-line pr-4 text-left font-semibold">
                        {c}
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody className="font-mono">
                  {rows.slice(0, SHOWN).map((row) => (
                    <tr key={row[0]}>
                      {row.map((cell, i) => (
                        // biome-ignore lint/suspicious/noArrayIndexKey: a cell is its place
                        <td key={i} className="max-w-48 truncate pr-4">
                          {cell}
                        </td>
                      ))}
                    </tr>
                  ))}
                </tbody>
              </table>
              {rows.length > SHOWN && <span className="text-xs text-muted">and {countText(rows.length - SHOWN)} more rows</span>}
            </div>
          )}
          <input
            ref={picker}
            type="file"
            accept=".csv,.tsv,.txt"
            aria-label="File of the table"
            className="sr-only"
            tabIndex={-1}
            onChange={(e) => {
              void take(e.target.files?.[0])
              e.target.value = ''
            }}
          />
          <Button small kind="quiet" onClick={() => picker.current?.click()}>
            {rows.length === 0 ? 'Take in a file' : 'Take in another file'}
          </Button>
        </DropArea>
      </Line>
      <Line label="under" error={error('under')}>
        <MemberInput label="Under" fresh value={step.under ?? ''} members={[]} onChange={(under) => onChange(optional(step, 'under', under))} />
        <span className="ml-2 text-muted">where what it gives stands; empty: at the top</span>
      </Line>
      <Line label="else" error={error('otherwise')}>
        <input
          aria-label="Otherwise"
          className="field w-56 font-mono"
          value={step.otherwise ?? ''}
          placeholder="no value"
          onChange={(e) => onChange(optional(step, 'otherwise', e.target.value))}
        />
        <span className="ml-2 text-muted">for what the table does not have</span>
      </Line>
    </>
  )
}

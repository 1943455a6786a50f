import { useState } from 'react'
import type { RowColumn, RowPlace, RowsLook } from '~/contract/row-place'
import { givesRows } from '~/core/rows/kinds'
import { SelectField, TextField } from '~/ui/Field'
import { call, useCall } from '../../app/api'
import { Failed } from '../../shared/Failed'
import { tellFailure } from '../../shared/problems'
import { ColumnsTable } from './ColumnsTable'

/** Which rows are meant, and what of them. */
export interface RowChoice extends RowPlace {
  sourceId: string
  columns: RowColumn[]
}

interface Props {
  chosen: RowChoice
  /** What becomes of the rows: `each is a message`. */
  says: string
  /** What is wrong with one of its fields. */
  error(field: keyof RowChoice): string | undefined
  onChange(chosen: RowChoice): void
}

const asColumns = (look: RowsLook): RowColumn[] => look.columns.map(({ name, dataType }) => ({ name, dataType, unit: '' }))

/** A query or a JSON document, where its rows stand, and which of their columns are wanted: those of its last answer are offered. */
export function RowSource({ chosen, says, error, onChange }: Props) {
  const sources = useCall('listSources')
  const able = (sources.data ?? []).filter((s) => givesRows(s.kind))
  const source = able.find((s) => s.id === chosen.sourceId)
  const [asking, setAsking] = useState(false)
  const { sourceId, at, key } = chosen
  const look = useCall('lookAtRows', {
    params: { id: sourceId },
    body: { at, key },
    enabled: source !== undefined && error('at') === undefined,
    keepPrevious: true,
    refetchMs: 5000,
  })
  const choose = async (id: string) => {
    const fresh: RowChoice = { sourceId: id, at: '', key: '', columns: [] }
    onChange(fresh)
    setAsking(true)
    try {
      const found = await call('lookAtRows', { params: { id }, body: { at: '', key: '' } })
      if (found.columns.length > 0) onChange({ ...fresh, columns: asColumns(found) })
    } catch (e) {
      tellFailure(e)
    } finally {
      setAsking(false)
    }
  }
  if (sources.data && able.length === 0)
    return (
      <p>
        No source gives rows: they come from a query on a database or from a JSON document.{' '}
        <a className="text-slate underline" href="/sources">
          Add one under Sources
        </a>
        .
      </p>
    )
  return (
    <>
      <SelectField
        label="Source"
        error={error('sourceId') && 'Which source?'}
        value={source ? sourceId : ''}
        onChange={(e) => void choose(e.target.value)}
      >
        <option value="" disabled>
          choose a query or a JSON document
        </option>
        {able.map((s) => (
          <option key={s.id} value={s.id}>
            {s.name}
          </option>
        ))}
      </SelectField>
      {source && (
        <>
          {source.kind === 'http' && <Place {...{ chosen, error, onChange }} columns={look.data?.columns ?? []} />}
          <Failed of={look} />
          <ColumnsTable
            chosen={chosen.columns}
            look={asking ? null : (look.data ?? null)}
            says={says}
            error={error('columns')}
            onColumns={(columns) => onChange({ ...chosen, columns })}
          />
        </>
      )}
    </>
  )
}

/** Where in a document its rows stand. */
function Place({ chosen, columns, error, onChange }: Omit<Props, 'says'> & { columns: RowsLook['columns'] }) {
  return (
    <>
      <TextField
        label="Rows stand at"
        help="As RFC 6901 has it: /orders/open; empty: the whole answer is the rows"
        mono
        value={chosen.at}
        error={error('at')}
        onChange={(e) => onChange({ ...chosen, at: e.target.value })}
      />
      <SelectField
        label="Told apart by"
        help="Of a list; rows that stand under names are told apart by those"
        value={chosen.key}
        onChange={(e) => onChange({ ...chosen, key: e.target.value })}
      >
        <option value="">their place, or their name</option>
        {[...new Set([...columns.map((c) => c.name), ...(chosen.key === '' ? [] : [chosen.key])])].map((name) => (
          <option key={name}>{name}</option>
        ))}
      </SelectField>
    </>
  )
}

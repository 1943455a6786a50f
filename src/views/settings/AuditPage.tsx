import { useState } from 'react'
import type { AuditRow } from '~/contract/audit'
import { Button } from '~/ui/Button'
import { FilterBox } from '~/ui/Field'
import { Empty, Loading } from '~/ui/Notes'
import { Time } from '~/ui/time'
import { useFilterInAddress } from '../app/address'
import { call, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { Failed } from '../shared/Failed'
import { ForRole } from '../shared/Onward'
import { tellFailure } from '../shared/problems'
import { actWords, differences } from './audit-words'

const PAGE = 200
/** So many differences of one act are shown at once. */
const SHOWN = 6

export function AuditPage() {
  const may = useMay('administrator')
  const [text, setText] = useFilterInAddress()
  const [older, setOlder] = useState<AuditRow[]>([])
  const [end, setEnd] = useState(false)
  const query = { limit: PAGE, text }
  const rows = useCall('listAudit', { query, enabled: may, refetchMs: older.length > 0 ? 0 : 5000 })
  const all = [...(rows.data ?? []), ...older]
  const find = (words: string) => {
    setText(words)
    setOlder([])
    setEnd(false)
  }
  const more = async () => {
    try {
      const next = await call('listAudit', { query: { ...query, before: all.at(-1)!.id } })
      setOlder([...older, ...next])
      setEnd(next.length < PAGE)
    } catch (e) {
      tellFailure(e)
    }
  }
  return (
    <>
      <Row station={null} page="Audit">
        <FilterBox value={text} onChange={find} placeholder="who, act or name" />
        {may && (
          <a href="/api/audit/export" download className="text-slate underline">
            Export all
          </a>
        )}
      </Row>
      <main className="min-h-0 flex-1 overflow-auto px-4 py-2">
        {!may ? (
          <ForRole needs="administrator">Who did what is shown to administrators.</ForRole>
        ) : rows.isPending ? (
          <Loading />
        ) : rows.error ? (
          <Failed of={rows} flush />
        ) : all.length === 0 ? (
          <Empty title={text ? 'No act fits' : 'Nobody has done anything yet'}>
            Log-ins, and every change of people, keys, sources, destinations, credentials and publications stand here, and stay.
          </Empty>
        ) : (
          <>
            <ul aria-label="Audit">
              {all.map((r) => (
                <Act key={r.id} row={r} />
              ))}
            </ul>
            {all.length >= PAGE && !end && (
              <div className="py-3">
                <Button onClick={() => void more()}>Show older acts</Button>
              </div>
            )}
          </>
        )}
      </main>
    </>
  )
}

function Act({ row }: { row: AuditRow }) {
  const [open, setOpen] = useState(false)
  const all = differences(row)
  const shown = open ? all : all.slice(0, SHOWN)
  const where = row.via === 'key' ? 'by key' : (row.address ?? '')
  return (
    <li className="grid grid-cols-[auto_170px_minmax(0,1fr)] items-start gap-3 border-b border-line/70 py-[5px]">
      <Time at={row.at} date />
      <span className="truncate" title={where}>
        <b className="font-semibold">{row.who}</b> <span className="text-xs text-muted">{where}</span>
      </span>
      <span className="min-w-0">
        {actWords(row.act)}
        {row.subject && row.subject !== row.who && (
          <>
            {' '}
            <b className="font-semibold">{row.subject}</b>
          </>
        )}
        {shown.map((d) => (
          <span key={d} className="block truncate font-mono text-[12px] text-muted" title={d}>
            {d}
          </span>
        ))}
        {all.length > SHOWN && (
          <Button small kind="quiet" onClick={() => setOpen(!open)}>
            {open ? 'Show fewer' : `Show ${all.length - SHOWN} more`}
          </Button>
        )}
      </span>
    </li>
  )
}

import { useRef, useState } from 'react'
import { toast } from 'sonner'
import type { JournalPage } from '~/contract/journal'
import { Button } from '~/ui/Button'
import { countText } from '~/ui/time'
import { call } from '../../app/api'
import { tellFailure } from '../../shared/problems'
import { saveFile } from '../../shared/save-file'
import { type JournalFilter, queryOf } from './useJournal'

/** So many go into one file. */
const MOST = 20_000

/** What the filter finds, the newest first, as a file: a line of JSON a message, its octets in base64. Can be stopped; what came by then is kept. */
export function ExportJournal({ destinationId, filter }: { destinationId: string; filter: JournalFilter }) {
  const [count, setCount] = useState<number | null>(null)
  const stop = useRef<AbortController | null>(null)
  const run = async () => {
    const abort = new AbortController()
    stop.current = abort
    const lines: string[] = []
    let failed = false
    setCount(0)
    try {
      let before: string | null = null
      do {
        const query = { ...queryOf(filter), payloads: '1' as const, ...(before !== null && { before }) }
        const page: JournalPage = await call('lookJournal', { params: { id: destinationId }, query, signal: abort.signal })
        for (const m of page.messages) lines.push(JSON.stringify(m))
        before = page.next
        setCount(lines.length)
      } while (before !== null && lines.length < MOST && !abort.signal.aborted)
    } catch (e) {
      failed = !abort.signal.aborted
      if (failed) tellFailure(e)
    }
    setCount(null)
    if (lines.length === 0 && failed) return
    if (lines.length === 0) return void toast(abort.signal.aborted ? 'Stopped before any message came: no file' : 'There is nothing to export')
    saveFile('journal.ndjson', new Blob([`${lines.join('\n')}\n`], { type: 'application/x-ndjson' }))
    toast.success(`${countText(lines.length)} ${lines.length === 1 ? 'message' : 'messages'} exported`)
  }
  if (count !== null)
    return (
      <Button small onClick={() => stop.current?.abort()}>
        Stop at {countText(count)}
      </Button>
    )
  return (
    <Button small onClick={() => void run()}>
      Export
    </Button>
  )
}

import { useState } from 'react'
import { ASIDES_LISTED, type Aside } from '~/contract/aside'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Heading } from '~/ui/Notes'
import { Pre } from '~/ui/Pre'
import { countText, Time } from '~/ui/time'
import { call, refresh, useCall } from '../app/api'
import { Failed } from '../shared/Failed'
import { tellFailure } from '../shared/problems'
import { saveFile } from '../shared/save-file'
import { type AsideGroup, asideGroups } from './aside-groups'
import { hexOf, textOf } from './aside-octets'
import { MendDialog } from './MendDialog'

const FIRST = 5

/** The octets as text where they are some, else as hexadecimal digits. */
const shown = (base64: string): string => textOf(base64) ?? hexOf(base64, 512)

/** Messages that the destination would not have, each with its reason and what was in it. */
export function Asides({ destinationId, mayEdit }: { destinationId: string; mayEdit: boolean }) {
  const asides = useCall('listAsides', { params: { id: destinationId }, refetchMs: 5000 })
  const ask = useAsk()
  const [all, setAll] = useState(false)
  const [exporting, setExporting] = useState(false)
  const [open, setOpen] = useState<string | null>(null)
  if (asides.error) return <Failed of={asides} flush />
  const list = asides.data ?? []
  if (list.length === 0) return null
  const groups = asideGroups(list)
  const forget = async () => {
    const count = list.length === ASIDES_LISTED ? 'all' : countText(list.length)
    const text = 'Their octets are gone then; their verdicts stay in the ledger.'
    if (!(await ask({ title: `Forget ${count} messages that went aside`, text, act: 'Forget messages' }))) return
    try {
      await call('removeAsides', { params: { id: destinationId } })
      await refresh('listAsides')
    } catch (e) {
      tellFailure(e)
    }
  }
  /** Each whole, a line of JSON each. */
  const take = async () => {
    setExporting(true)
    try {
      const lines: string[] = []
      for (const { id } of list) lines.push(JSON.stringify(await call('readAside', { params: { number: String(id) } })))
      saveFile('aside.ndjson', new Blob([`${lines.join('\n')}\n`], { type: 'application/x-ndjson' }))
    } catch (e) {
      tellFailure(e)
    } finally {
      setExporting(false)
    }
  }
  return (
    <>
      <div className="flex items-end justify-between gap-2">
        <Heading>
          Went aside: {list.length === ASIDES_LISTED ? 'the newest ' : ''}
          {countText(list.length)} {list.length === 1 ? 'message' : 'messages'}
        </Heading>
        <span className="flex gap-1">
          <Button small busy={exporting} onClick={() => void take()}>
            Export them
          </Button>
          {mayEdit && (
            <Button small onClick={() => void forget()}>
              Forget them
            </Button>
          )}
        </span>
      </div>
      <ul aria-label="Messages that went aside">
        {(all ? groups : groups.slice(0, FIRST)).map((g) => (
          <Group key={g.key} group={g} mayEdit={mayEdit} open={open === g.key} onToggle={() => setOpen(open === g.key ? null : g.key)} />
        ))}
      </ul>
      {groups.length > FIRST && !all && (
        <Button small onClick={() => setAll(true)}>
          Show all {countText(groups.length)} topics
        </Button>
      )}
    </>
  )
}

/** Those of one topic and reason: a line each once it is opened. */
function Group({ group, open, onToggle, mayEdit }: { group: AsideGroup; open: boolean; onToggle(): void; mayEdit: boolean }) {
  const [opened, setOpened] = useState<number | null>(null)
  const [newest] = group.asides
  if (!newest) return null
  const { length } = group.asides
  return (
    <li className="border-b border-line/70 py-1">
      <button type="button" className="w-full text-left" aria-expanded={open} onClick={onToggle}>
        <span className="flex justify-between gap-2">
          <span className="font-mono text-[12.5px] break-all">{group.topic}</span>
          <span className="font-mono text-[12.5px]">{countText(length)}</span>
        </span>
        <span className="block text-[12.5px] text-bad">{group.message}</span>
        <span className="block text-xs text-muted">
          {group.publication ?? 'a publication that is no more'}, {length > 1 ? 'last ' : ''}no. {newest.seq}, <Time at={newest.at} date />
        </span>
      </button>
      {open && (
        <>
          <div className="mt-1 text-[12.5px]">{group.hint}</div>
          <ul className="mt-1 max-h-80 overflow-auto">
            {group.asides.map((a) => (
              <One
                key={a.id}
                aside={a}
                mayEdit={mayEdit}
                open={length === 1 || opened === a.id}
                onToggle={() => setOpened(opened === a.id ? null : a.id)}
              />
            ))}
          </ul>
        </>
      )}
    </li>
  )
}

function One({ aside, open, onToggle, mayEdit }: { aside: Aside; open: boolean; onToggle(): void; mayEdit: boolean }) {
  const [mending, setMending] = useState(false)
  return (
    <li>
      <button type="button" className="flex w-full justify-between gap-2 py-0.5 text-left text-xs" aria-expanded={open} onClick={onToggle}>
        <span className="font-mono">no. {aside.seq}</span>
        <Time at={aside.at} date />
      </button>
      {open && (
        <>
          <Pre label="Payload" className="my-1 max-h-48 bg-well p-2 text-xs break-all whitespace-pre-wrap">
            {shown(aside.payload)}
          </Pre>
          {aside.again ? (
            <p className="text-xs text-good">
              Sent again as no. {aside.again.seq} by {aside.again.by}, <Time at={aside.again.at} date />
            </p>
          ) : null}
          {mayEdit && aside.publication !== null && (
            <Button small onClick={() => setMending(true)}>
              Mend and send again
            </Button>
          )}
          {mending && <MendDialog id={aside.id} onClose={() => setMending(false)} />}
        </>
      )}
    </li>
  )
}

import { useState } from 'react'
import { toast } from 'sonner'
import type { Destination } from '~/contract/destination'
import { WAITING_PAGE, type WaitingMessage } from '~/contract/waiting'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { Modal } from '~/ui/Modal'
import { Loading } from '~/ui/Notes'
import { ageText, bytesText, countText, Time } from '~/ui/time'
import { call, refresh, useCall } from '../app/api'
import { MessageBody } from '../publications/MessageBody'
import { Failed } from '../shared/Failed'
import { tellFailure } from '../shared/problems'

const key = (m: Pick<WaitingMessage, 'delivery' | 'seq'>) => `${m.delivery} ${m.seq}`
const messages = (n: number) => `${countText(n)} ${n === 1 ? 'message' : 'messages'}`

/** What waits in the outbox of a destination: a page at a time, each opened whole; skipped one by one, or cleared. */
export function WaitingDialog({ destination, mayEdit, onClose }: { destination: Destination; mayEdit: boolean; onClose(): void }) {
  const [from, setFrom] = useState(0)
  const [open, setOpen] = useState<WaitingMessage | null>(null)
  const [busy, setBusy] = useState(false)
  const found = useCall('lookWaiting', { params: { id: destination.id }, query: { from }, refetchMs: 3000, keepPrevious: true })
  const publications = useCall('listPublications')
  const nameOf = (id: string | null) => publications.data?.find((p) => p.id === id)?.name ?? 'a publication that is no more'
  const ask = useAsk()
  const { waiting = 0, bytes = 0, capBytes = 0, messages: list = [] } = found.data ?? {}
  const oldest = from === 0 ? list[0] : undefined
  const clear = async (one: WaitingMessage | null) => {
    const text = 'They are not sent any more, and count as dropped in the ledger. This cannot be undone. What is on the wire just now stays.'
    const title = one ? `Skip no. ${one.seq} to ${one.topic}` : `Clear ${messages(waiting)} to ${destination.name}`
    if (!(await ask({ title, text, act: one ? 'Skip message' : 'Clear the outbox' }))) return
    setBusy(true)
    try {
      const query = one ? { delivery: one.delivery, seq: one.seq } : {}
      const { cleared } = await call('clearWaiting', { params: { id: destination.id }, query })
      toast(cleared === 0 ? 'Nothing was given up: it is on the wire, or was sent meanwhile' : `${messages(cleared)} given up`)
      setOpen(null)
      setFrom(0)
      await refresh('lookWaiting')
    } catch (e) {
      tellFailure(e)
    } finally {
      setBusy(false)
    }
  }
  return (
    <Modal
      open
      onClose={onClose}
      title={`What waits for ${destination.name}`}
      note={`${messages(waiting)}, ${bytesText(bytes)} of ${bytesText(capBytes)} on disk${oldest ? `; the oldest was produced ${ageText(serverNow() - oldest.producedAt)} ago` : ''}`}
      width={860}
      foot={
        <>
          <span className="mr-auto flex items-center gap-2 text-muted">
            {list.length > 0 && `${countText(from + 1)} to ${countText(from + list.length)}`}
            <Button small disabled={from === 0} onClick={() => setFrom(Math.max(0, from - WAITING_PAGE))}>
              Older
            </Button>
            <Button small disabled={list.length < WAITING_PAGE} onClick={() => setFrom(from + WAITING_PAGE)}>
              Newer
            </Button>
          </span>
          {mayEdit && (
            <Button kind="danger" busy={busy} disabled={waiting === 0} onClick={() => void clear(null)}>
              Clear the outbox
            </Button>
          )}
        </>
      }
    >
      <Failed of={found} />
      {found.isPending && <Loading />}
      {found.data && list.length === 0 && (
        <p className="text-muted">{waiting === 0 ? 'Nothing waits: the destination has everything.' : 'What waits is on its way to the disk.'}</p>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-4">
        <ul aria-label="Messages that wait" className="max-h-[52vh] overflow-auto">
          {list.map((m) => (
            <li key={key(m)} className="border-b border-line/70">
              <button
                type="button"
                aria-pressed={open !== null && key(open) === key(m)}
                className={`w-full px-1 py-1 text-left ${open && key(open) === key(m) ? 'bg-wash' : ''}`}
                onClick={() => setOpen(m)}
              >
                <span className="block font-mono text-[12.5px] break-all">{m.topic}</span>
                <span className="flex justify-between gap-2 text-xs text-muted">
                  <span className="truncate">
                    {nameOf(m.publicationId)}, no. {m.seq}
                  </span>
                  <span className="font-mono whitespace-nowrap">
                    {bytesText(m.octets)}, <Time at={m.producedAt} />
                  </span>
                </span>
              </button>
            </li>
          ))}
        </ul>
        {open ? (
          <One destinationId={destination.id} message={open} mayEdit={mayEdit} busy={busy} onSkip={() => void clear(open)} />
        ) : (
          list.length > 0 && <p className="text-muted">Choose a message to open it whole.</p>
        )}
      </div>
    </Modal>
  )
}

function One({
  destinationId,
  message,
  mayEdit,
  busy,
  onSkip,
}: {
  destinationId: string
  message: WaitingMessage
  mayEdit: boolean
  busy: boolean
  onSkip(): void
}) {
  const whole = useCall('openWaiting', { params: { id: destinationId, delivery: String(message.delivery), seq: String(message.seq) } })
  return (
    <section aria-label="Message" className="max-h-[52vh] overflow-auto">
      <Failed of={whole} />
      {whole.isPending && <Loading />}
      {whole.data && <MessageBody message={whole.data.message} />}
      {mayEdit && (
        <Button small busy={busy} onClick={onSkip}>
          Skip this message
        </Button>
      )}
    </section>
  )
}

import { useState } from 'react'
import { toast } from 'sonner'
import type { AsideWhole } from '~/contract/aside'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { Loading } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../app/api'
import { Failed } from '../shared/Failed'
import { fromHex, fromText, hexOf, textOf } from './aside-octets'

/** A message that went aside, whole: mended, or as it was, it goes out once more. */
export function MendDialog({ id, onClose }: { id: number; onClose(): void }) {
  const message = useCall('readAside', { params: { number: String(id) } })
  if (!message.data)
    return (
      <Modal open onClose={onClose} title="Mend and send again">
        <Failed of={message} />
        {message.isPending && <Loading />}
      </Modal>
    )
  return <MendForm message={message.data} onClose={onClose} />
}

function MendForm({ message, onClose }: { message: AsideWhole; onClose(): void }) {
  const isText = textOf(message.payload) !== null
  const before = textOf(message.payload) ?? hexOf(message.payload)
  const [topic, setTopic] = useState(message.topic)
  const [text, setText] = useState(before)
  const [busy, setBusy] = useState(false)
  const [problem, setProblem] = useState<Record<string, string>>({})
  const cut = message.octets !== null && message.kept < message.octets
  const octets = isText ? fromText(text) : fromHex(text)
  const same = topic === message.topic && text === before
  const send = async () => {
    setBusy(true)
    setProblem({})
    try {
      const body = { ...(topic !== message.topic && { topic }), ...(text !== before && octets !== null && { payload: octets }) }
      const now = await call('sendAside', { params: { number: String(message.id) }, body })
      toast.success(`Sent again as no. ${now.again?.seq}`)
      await refresh('listAsides')
      onClose()
    } catch (e) {
      const f = failureIn(e)
      setProblem(f.fields ?? { topic: `${f.message}. ${f.hint}` })
    } finally {
      setBusy(false)
    }
  }
  return (
    <Modal
      open
      onClose={onClose}
      title={`No. ${message.seq} of ${message.publication}`}
      note={`${message.message}. ${message.hint}`}
      width={720}
      foot={
        <>
          <span className="mr-auto text-muted">It goes as a message of its own; the account of no. {message.seq} stays as it is.</span>
          <Button onClick={onClose}>Leave it as it is</Button>
          <Button kind="main" busy={busy} disabled={octets === null || topic === '' || (cut && same)} onClick={() => void send()}>
            {same ? 'Send it again' : 'Send it mended'}
          </Button>
        </>
      }
    >
      <TextField label="Topic" mono value={topic} error={problem.topic} onChange={(e) => setTopic(e.target.value)} />
      <label className="block pt-1 text-muted" htmlFor="payload-again">
        Payload{isText ? '' : ', as hexadecimal digits'}
      </label>
      <textarea
        id="payload-again"
        rows={12}
        spellCheck={false}
        aria-invalid={octets === null}
        className={`w-full rounded-sm border bg-sheet px-2 py-1 font-mono text-[12.5px] ${octets === null ? 'border-bad' : 'border-line'}`}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      {octets === null && (
        <p role="alert" className="text-bad">
          Two digits from 0 to f for each octet
        </p>
      )}
      {problem.payload && (
        <p role="alert" className="text-bad">
          {problem.payload}
        </p>
      )}
      {cut && (
        <p className="text-uncertain">
          Only the first {countText(message.kept)} of {countText(message.octets!)} octets are kept: send it with a payload of yours.
        </p>
      )}
      <dl className="grid grid-cols-[110px_1fr] gap-x-2 pt-1 text-muted">
        {message.contentType && <dt>Content type</dt>}
        {message.contentType && <dd className="font-mono">{message.contentType}</dd>}
        {message.key && <dt>Key</dt>}
        {message.key && <dd className="font-mono">{message.key}</dd>}
        {message.headers.map(([name, value]) => (
          <div key={name} className="contents">
            <dt>{name}</dt>
            <dd className="font-mono break-all">{value}</dd>
          </div>
        ))}
      </dl>
    </Modal>
  )
}

import { useState } from 'react'
import type { Tag } from '~/contract/tag'
import { Pre } from '~/ui/Pre'
import { ageText, useNow } from '~/ui/time'
import { useCall } from '../app/api'

/** Why a tag is as it is, in the words of its protocol, with the bytes that could not be read. */
export function Note({ tag, status }: { tag: Tag; status: number | undefined }) {
  // Another status brings another note.
  const note = useCall('tagNote', { params: { id: tag.id }, query: { status: status ?? 0 } })
  const now = useNow()
  const [hex, setHex] = useState(false)
  const n = note.data
  if (!n?.at || !n.text) return null
  const bytes = n.bytes === null ? null : Uint8Array.from(atob(n.bytes), (c) => c.charCodeAt(0))
  const good = status !== undefined && status >>> 30 === 0
  return (
    <div className="my-2 rounded-sm border border-line bg-paper px-2.5 py-1.5 text-[13px]" data-note>
      <div className={good ? 'text-muted' : ''}>
        {n.text}
        <span className="text-muted">
          {' '}
          {ageText(now - n.at)} ago{good && ', good since'}
        </span>
      </div>
      {n.code && <div className="font-mono text-xs text-muted">{n.code}</div>}
      {bytes && bytes.length > 0 && (
        <>
          <button type="button" className="mt-1 text-xs text-slate underline" onClick={() => setHex(!hex)}>
            {hex ? 'as text' : 'as bytes'}
          </button>
          <Pre label="Octets" className="mt-1 max-h-40 text-xs break-all whitespace-pre-wrap">
            {hex ? Array.from(bytes, (b) => b.toString(16).padStart(2, '0')).join(' ') : new TextDecoder().decode(bytes)}
          </Pre>
        </>
      )}
    </div>
  )
}

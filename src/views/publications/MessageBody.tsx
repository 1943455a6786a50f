import { useMemo } from 'react'
import type { ShownPayload } from '~/contract/publication'
import { Glyph } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Fact, Heading } from '~/ui/Notes'
import { Pre } from '~/ui/Pre'
import { bytesText } from '~/ui/time'
import { Payload } from '../shared/Payload'

const BYTES = 512
const glyph = { good: 'good', uncertain: 'uncertain', bad: 'bad' } as const

/** Octets by sixteen: place, hexadecimal, and as text where they are. */
function Octets({ base64, total }: { base64: string; total: number }) {
  const lines = useMemo(() => {
    const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0)).subarray(0, BYTES)
    return Array.from({ length: Math.ceil(bytes.length / 8) }, (_, n) => {
      const row = bytes.subarray(n * 8, n * 8 + 8)
      const hex = [...row].map((b) => b.toString(16).padStart(2, '0')).join(' ')
      const text = [...row].map((b) => (b >= 32 && b < 127 ? String.fromCharCode(b) : '·')).join('')
      return [(n * 8).toString(16).padStart(4, '0'), hex, text] as const
    })
  }, [base64])
  return (
    <Pre label="Octets" className="bg-paper px-2.5 py-2 text-[12px] leading-[17px]" data-octets>
      {lines.map(([at, hex, text]) => (
        <div key={at}>
          <span className="text-muted">{at}</span> {hex.padEnd(24)}
          <span className="text-slate">{text}</span>
        </div>
      ))}
      {total > BYTES && <div className="text-muted">and {bytesText(total - BYTES)} more</div>}
    </Pre>
  )
}

type Reading = ShownPayload['read']['readings'][number]

const columns: ListColumn<Reading>[] = [
  {
    key: 'glyph',
    head: 'Quality',
    quiet: true,
    width: '36px',
    cell: (r) => <Glyph state={glyph[r.quality as keyof typeof glyph] ?? 'idle'} />,
    tip: (r) => r.reason,
  },
  { key: 'member', head: 'Member', cell: (r) => r.member, tip: (r) => r.member },
  { key: 'value', head: 'Value', right: true, mono: true, cell: (r) => r.value || '-', tip: (r) => String(r.value) },
]

/** One payload: as it is on the wire, what travels beside it, and what its own shape reads from it again. */
export function MessageBody({ message }: { message: ShownPayload }) {
  const { read } = message
  const beside: [string, string][] = [
    ...message.headers,
    ...(message.responseTopic ? [['response topic', message.responseTopic] as [string, string]] : []),
  ]
  return (
    <>
      {message.binary ? <Octets base64={message.payload} total={message.bytesBefore} /> : <Payload text={message.payload} />}
      <div className="mt-1 text-muted">
        {bytesText(message.bytes)}
        {message.bytes !== message.bytesBefore && `, compressed from ${bytesText(message.bytesBefore)}`} ·{' '}
        <span className="font-mono text-[12px]">{message.contentType}</span>
      </div>
      {message.key && <Fact name="Key">{message.key}</Fact>}
      {beside.length > 0 && (
        <>
          <Heading>Headers</Heading>
          <dl aria-label="Headers">
            {beside.map(([name, value]) => (
              <Fact key={`${name} ${value}`} name={name}>
                {value}
              </Fact>
            ))}
          </dl>
        </>
      )}
      {(message.binary || read.problem !== '') && (
        <>
          <Heading>{read.problem ? 'Read again' : `Read again: ${read.kind}`}</Heading>
          {read.problem ? (
            <p className="text-bad">{read.problem}</p>
          ) : (
            <ListTable label="Read again" dense rows={read.readings} columns={columns} rowKey={(r) => `${r.equipment} ${r.member}`} />
          )}
        </>
      )}
    </>
  )
}

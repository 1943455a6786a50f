import type { JournalMessage } from '~/contract/journal'
import { Button } from '~/ui/Button'
import { Heading, Loading } from '~/ui/Notes'
import { bytesText, durationText, Time } from '~/ui/time'
import { useCall } from '../../app/api'
import { MessageBody } from '../../publications/MessageBody'
import { Failed } from '../../shared/Failed'
import { saveFile } from '../../shared/save-file'
import { Origins } from './Origins'
import { trailOf, verdictMeaning, verdictWords } from './trail'

interface Props {
  destinationId: string
  delivery: number
  seq: number
  /** The row in which it stands, where that is known. */
  segment: number | null
  publication(id: string | null): string
}

/** One message whole: what became of it, its way with the times at each hop, and what was in it. */
export function MessageTrail({ destinationId, delivery, seq, segment, publication }: Props) {
  const found = useCall('openJournal', {
    params: { id: destinationId, delivery: String(delivery), seq: String(seq) },
    query: segment === null ? {} : { segment },
  })
  const m = found.data
  if (!m)
    return (
      <>
        <h2 className="text-[15px] font-semibold">Message no. {seq}</h2>
        <Failed of={found} />
        {found.isPending && <Loading />}
      </>
    )
  const save = () => {
    const bytes = Uint8Array.from(atob(m.octets64), (c) => c.charCodeAt(0))
    saveFile(`message-${delivery}-${seq}.bin`, new Blob([bytes], { type: 'application/octet-stream' }))
  }
  return (
    <>
      <div className="flex items-start justify-between gap-2">
        <h2 className="min-w-0 text-[15px] font-semibold break-words">
          {publication(m.publicationId)}, no. {seq}
        </h2>
        <Button small onClick={save} title={m.octets > 64_000 ? 'The first 64,000 octets' : ''}>
          Save the octets
        </Button>
      </div>
      <div className="mb-2 font-mono text-[12.5px] break-all">{m.topic}</div>
      {m.verdict && (
        <p className={grave(m.verdict) ? 'text-bad' : ''}>
          <b>{verdictWords[m.verdict]}</b>: {verdictMeaning[m.verdict]}
        </p>
      )}
      <Heading>Its way</Heading>
      <Way message={m} />
      {m.publicationId && m.version !== null && (
        <Origins key={`${m.delivery}-${m.seq}`} publicationId={m.publicationId} version={m.version} topic={m.topic} />
      )}
      <Heading>What went out{m.version === null ? '' : `, version ${m.version}`}</Heading>
      <MessageBody message={m.message} />
      {m.message.bytes > 64_000 && <p className="text-muted">The first 64 kB of {bytesText(m.message.bytes)}.</p>}
    </>
  )
}

const grave = (verdict: NonNullable<JournalMessage['verdict']>) => ['missing', 'dropped', 'rejected', 'altered'].includes(verdict)

/** Each hop with its time, and how long it took since the one before. */
function Way({ message }: { message: JournalMessage }) {
  return (
    <ol aria-label="Its way">
      {trailOf(message).map((step) => (
        <li key={step.name} className="flex items-baseline justify-between gap-2 border-b border-line/70 py-1">
          <span className={step.at === null ? 'text-muted' : ''}>{step.name}</span>
          <span className="text-right whitespace-nowrap">
            {step.note && <span className="mr-2 text-xs text-muted">{step.note}</span>}
            {step.took !== null && <span className="mr-2 font-mono text-xs text-muted">{gapText(step.took)}</span>}
            {step.at !== null && <Time at={step.at} />}
          </span>
        </li>
      ))}
    </ol>
  )
}

const gapText = (ms: number) => `${ms < 0 ? '-' : '+'}${durationText(Math.abs(ms))}`

import { useRef, useState } from 'react'
import type { Publication, PublicationDraft } from '~/contract/publication'
import type { Replay, ReplayDifference } from '~/contract/replay'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { Choice } from '~/ui/Field'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Modal } from '~/ui/Modal'
import { Heading, Loading, ProblemNote } from '~/ui/Notes'
import { bytesText, countText, Time } from '~/ui/time'
import { call } from '../../app/api'
import { TopicText } from '../../shared/TopicText'
import { useWork } from '../../shared/useWork'
import { shareText, spans, verdictOfReplay } from './words'

interface Props {
  publication: Publication
  draft: PublicationDraft
  onClose(): void
}

/** What was sent lately, beside what the edited publication would have sent of the same values. */
export function ReplayDialog({ publication, draft, onClose }: Props) {
  const [minutes, setMinutes] = useState<(typeof spans)[number]['value']>('60')
  const [found, setFound] = useState<Replay | null>(null)
  const abort = useRef<AbortController | null>(null)
  const work = useWork()
  const run = () =>
    work.run(async () => {
      const { signal } = (abort.current = new AbortController())
      const to = serverNow()
      setFound(null)
      const body = { draft, from: to - Number(minutes) * 60_000, to }
      try {
        setFound(await call('replayPublication', { params: { id: publication.id }, body, signal }))
      } catch (e) {
        if (!signal.aborted) throw e
      }
    })
  return (
    <Modal
      open
      onClose={() => {
        abort.current?.abort()
        onClose()
      }}
      title={`Replay through ${draft.name}`}
      note="Takes what was sent from the journal, and sends it once more through the publication as it is edited here. Nothing goes out."
      width={920}
      foot={
        <>
          <span className="mr-auto">
            <Choice label="Span" value={minutes} options={spans} onChange={setMinutes} />
          </span>
          {work.busy && (
            <Button onClick={() => abort.current?.abort()} kind="quiet">
              Stop
            </Button>
          )}
          <Button kind="main" busy={work.busy} onClick={() => void run()}>
            Replay
          </Button>
        </>
      }
    >
      {work.problem && <ProblemNote problem={work.problem} />}
      {work.busy && <Loading label="Replaying" />}
      {!found && !work.busy && !work.problem && <p className="text-muted">Choose how far back, then replay.</p>}
      {found && <Found found={found} />}
    </Modal>
  )
}

function Found({ found }: { found: Replay }) {
  const { sent, edited } = found
  const topics = found.topics.filter((t) => t.sent.messages !== t.edited.messages || t.sent.octets !== t.edited.octets)
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-2">
      <p className="text-[15px]">{verdictOfReplay(found)}</p>
      <p className="text-muted">
        From <Time at={found.from} date /> to <Time at={found.to} date />
        {found.cut && ': there was more of it than one replay looks at'}
      </p>
      <table className="w-full max-w-[560px]" aria-label="Sums">
        <thead>
          <tr className="text-left text-muted">
            <td />
            <th className="text-right font-normal">Messages</th>
            <th className="text-right font-normal">Payload</th>
            <th className="text-right font-normal">Per message</th>
          </tr>
        </thead>
        <tbody className="font-mono text-[12.5px]">
          <Sums name="As sent" sum={sent} />
          <Sums name="As edited" sum={edited} />
          <tr className="border-t border-line">
            <td className="font-sans text-[13px]">Edited against sent</td>
            <td className="text-right">{shareText(edited.messages, sent.messages)}</td>
            <td className="text-right">{shareText(edited.octets, sent.octets)}</td>
            <td className="text-right">{shareText(each(edited), each(sent))}</td>
          </tr>
        </tbody>
      </table>
      {found.differences.length > 0 && (
        <>
          <Heading>
            {found.differences.length < found.changed + found.held + found.added
              ? `The first ${found.differences.length} that differ`
              : 'What differs'}
          </Heading>
          <ListTable
            label="Differences"
            rows={found.differences.map((d, n) => ({ ...d, n }))}
            columns={columns}
            rowKey={(d) => String(d.n)}
            dense
            fixed
            scroller="max-h-[34vh] overflow-auto"
          />
        </>
      )}
      {topics.length > 1 && (
        <>
          <Heading>By topic, those first that differ most</Heading>
          <ListTable label="Topics" rows={topics} columns={topicColumns} rowKey={(t) => t.topic} dense fixed scroller="max-h-[24vh] overflow-auto" />
        </>
      )}
      <ul className="text-xs text-muted">
        {found.notes.map((note) => (
          <li key={note}>{note}</li>
        ))}
      </ul>
    </div>
  )
}

const each = ({ messages, octets }: Replay['sent']) => (messages === 0 ? 0 : octets / messages)

function Sums({ name, sum }: { name: string; sum: Replay['sent'] }) {
  return (
    <tr>
      <td className="font-sans text-[13px]">{name}</td>
      <td className="text-right">{countText(sum.messages)}</td>
      <td className="text-right">{bytesText(sum.octets)}</td>
      <td className="text-right">{sum.messages === 0 ? '-' : bytesText(Math.round(each(sum)))}</td>
    </tr>
  )
}

const kinds: Record<ReplayDifference['kind'], string> = { changed: 'differs', held: 'not sent', added: 'sent as well' }
const memberText = ({ members, memberCount }: ReplayDifference) =>
  members.map((m) => `${m.member}: ${m.sent ?? 'nothing'} → ${m.edited ?? 'nothing'}`).join(', ') +
  (memberCount > members.length ? ` and ${memberCount - members.length} more` : '')

const columns: ListColumn<ReplayDifference & { n: number }>[] = [
  { key: 'kind', head: 'As edited', width: '96px', cell: (d) => kinds[d.kind], look: (d) => (d.kind === 'held' ? 'text-uncertain' : '') },
  { key: 'at', head: 'Produced', width: '122px', whole: true, cell: (d) => <Time at={d.at} /> },
  { key: 'topic', head: 'Topic', width: '34%', mono: true, cell: (d) => <TopicText topic={d.topic} />, tip: (d) => d.topic },
  { key: 'members', head: 'Members', cell: memberText, tip: memberText },
  {
    key: 'octets',
    head: 'Payload',
    width: '118px',
    right: true,
    mono: true,
    cell: (d) => `${d.octets.sent ?? '-'} → ${d.octets.edited ?? '-'} B`,
  },
]

const topicColumns: ListColumn<Replay['topics'][number]>[] = [
  { key: 'topic', head: 'Topic', mono: true, cell: (t) => t.topic, tip: (t) => t.topic },
  {
    key: 'messages',
    head: 'Messages',
    width: '150px',
    right: true,
    mono: true,
    cell: (t) => `${countText(t.sent.messages)} → ${countText(t.edited.messages)}`,
  },
  {
    key: 'octets',
    head: 'Payload',
    width: '170px',
    right: true,
    mono: true,
    cell: (t) => `${bytesText(t.sent.octets)} → ${bytesText(t.edited.octets)}`,
  },
]

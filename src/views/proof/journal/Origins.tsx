import { useState } from 'react'
import type { MessageOrigins } from '~/contract/journal'
import { Button } from '~/ui/Button'
import { Heading, Loading } from '~/ui/Notes'
import { useCall } from '../../app/api'
import { Failed } from '../../shared/Failed'

interface Props {
  publicationId: string
  version: number
  topic: string
}

/** From which places of which devices the values of a message came; asked for when somebody wants to know. */
export function Origins({ publicationId, version, topic }: Props) {
  const [open, setOpen] = useState(false)
  return (
    <>
      <Heading>Where its values come from</Heading>
      {open ? (
        <Found publicationId={publicationId} version={version} topic={topic} />
      ) : (
        <Button small onClick={() => setOpen(true)}>
          Back to the device
        </Button>
      )}
    </>
  )
}

function Found({ publicationId, version, topic }: Props) {
  const found = useCall('messageOrigins', { params: { id: publicationId, number: String(version) }, query: { place: topic } })
  return (
    <>
      <Failed of={found} flush />
      {found.isPending && <Loading />}
      {found.data?.equipment.length === 0 && <p className="text-muted">No message of version {version} goes to this topic as it was written.</p>}
      {found.data?.equipment.map((e) => (
        <section key={e.id} aria-label={`Values of ${e.name}`} className="mb-2">
          <a className="font-semibold text-slate hover:underline" href={`/equipment?id=${e.id}`}>
            {e.name}
          </a>
          <ul>
            {e.members.map((m) => (
              <MemberRow key={m.key} member={m} />
            ))}
          </ul>
        </section>
      ))}
    </>
  )
}

type Member = MessageOrigins['equipment'][number]['members'][number]

const words: Record<Member['how'], string> = { tag: '', expression: 'computed', constant: 'constant', step: 'made by a step' }

function MemberRow({ member: m }: { member: Member }) {
  return (
    <li className="border-b border-line/70 py-1">
      <div className="flex items-baseline justify-between gap-2">
        <span className="break-words">{m.label}</span>
        <span className="text-right text-xs text-muted">
          {words[m.how]} {m.text && <span className="font-mono">{m.text}</span>} {m.unit}
        </span>
      </div>
      {m.from.map((f) => (
        <div key={`${f.tag} ${f.address}`} className="pl-3 text-[12.5px]">
          {f.tagId ? (
            <a className="text-slate underline" href={`/tags?tag=${f.tagId}`}>
              {f.tag}
            </a>
          ) : (
            f.tag
          )}{' '}
          <span className="text-muted">
            {f.source && 'of '}
            {f.sourceId ? (
              <a className="hover:underline" href={`/sources?source=${f.sourceId}`}>
                {f.source}
              </a>
            ) : (
              f.source
            )}
          </span>
          {f.address && <div className="font-mono break-all text-muted">{f.address}</div>}
          {f.scaled && <div className="text-muted">scaled: {f.scaled}</div>}
        </div>
      ))}
    </li>
  )
}

import type { ReactNode } from 'react'
import type { Finding, Publication, PublicationDraft } from '~/contract/publication'
import { Section } from '../Section'
import { stepsSentence } from '../steps/words'
import { paceWords, triggerWords } from '../when/words'

interface Props {
  root: Publication
  draft: PublicationDraft
  /** Whom it is about, in words. */
  what: ReactNode
  of(section: Finding['section']): readonly Finding[]
  section(id: string): { open: boolean; onToggle(): void }
}

/** What a further clause has from its publication, and the way to where that is edited. */
export function OfRoot({ root, draft, what, of, section }: Props) {
  const onTop = paceWords(draft.trigger, draft.pace)
  const parts: { id: Finding['section']; title: string; summary: ReactNode }[] = [
    { id: 'what', title: 'What', summary: what },
    { id: 'when', title: 'When', summary: `${triggerWords(draft.trigger, draft.rows !== undefined)}${onTop && `; ${onTop}`}` },
    { id: 'steps', title: 'Steps', summary: draft.steps?.length ? stepsSentence(draft.steps) : 'sent as read' },
  ]
  return (
    <>
      {parts.map(({ id, title, summary }) => (
        <Section key={id} title={title} summary={<span className="text-muted">{summary}</span>} findings={of(id)} {...section(id)}>
          As in <b>{root.name}</b>, of which this is a further clause:{' '}
          <a className="text-slate underline" href={`/publications?id=${root.id}&section=${id}`}>
            edit it there
          </a>
          .
        </Section>
      ))}
    </>
  )
}

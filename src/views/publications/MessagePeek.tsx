import { useState } from 'react'
import type { LastMessage } from '~/contract/live'
import type { Preview, Publication } from '~/contract/publication'
import type { Step } from '~/contract/step'
import { kindOf } from '~/core/address/kinds'
import { stepNames } from '~/core/publication/steps/apply'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Heading, type Problem, ProblemNote } from '~/ui/Notes'
import { durationText, Time } from '~/ui/time'
import { go } from '../app/address'
import { useLastMessage, useWatch } from '../app/live/live'
import { findHopOf } from '../proof/way/words'
import { MessageBody } from './MessageBody'

/** One real message: as it went out with its way, or, for a draft, as it would be built from the values of this moment. */
export function MessagePeek({
  publication,
  preview,
  trouble,
  waiting,
  dirty,
  steps,
  onReplay,
  onWeigh,
}: {
  publication: Publication | null
  preview: Preview | null
  /** Why there is no newer preview. */
  trouble: Problem | null
  /** Equipment or destination is still to be chosen. */
  waiting: boolean
  dirty: boolean
  /** Of the draft. */
  steps: readonly Step[]
  /** Null: nothing was sent yet that could be. */
  onReplay: (() => void) | null
  /** Null: there is nothing to reckon with yet. */
  onWeigh: (() => void) | null
}) {
  const live = publication?.state === 'live' && !dirty
  const stopped = preview?.findings.find((f) => f.severity === 'stops')
  const [held, setHeld] = useState<LastMessage | null>(null)
  useWatch({ messages: publication ? [publication.id] : [] })
  const last = useLastMessage(publication?.id ?? '')
  const shown = held ?? last
  if (live && shown)
    return (
      <>
        <div className="flex items-start justify-between">
          <h2 className="text-[15px] font-semibold">One real message</h2>
          <Button small aria-pressed={held !== null} onClick={() => setHeld(held ? null : shown)}>
            {held ? 'Follow new messages' : 'Freeze this message'}
          </Button>
        </div>
        <div className="mb-2 text-muted">
          number {shown.seq}, produced at <Time at={shown.producedAt} />
        </div>
        <div className="mb-1.5 font-mono text-[12px] font-semibold break-all">{shown.topic}</div>
        <MessageBody message={shown.message} />
        <Heading>Its way</Heading>
        <Way message={shown} silent={kindOf(publication.address).lastWord === 'sent'} />
        <Was {...{ publication, onReplay, onWeigh }} />
      </>
    )
  return (
    <>
      <h2 className="text-[15px] font-semibold">As it would be sent now</h2>
      {trouble && (
        <div className="my-2">
          <ProblemNote problem={trouble} />
        </div>
      )}
      {preview?.message ? (
        <>
          <div className="mb-2 text-muted">
            {preview.equipment}, {trouble ? 'as it was before that' : 'with the values of this moment'}
          </div>
          <div className="mb-1.5 font-mono text-[12px] font-semibold break-all">{preview.topic}</div>
          <MessageBody message={preview.message} />
        </>
      ) : (
        <p className="text-muted">
          {waiting
            ? 'Choose equipment and a destination: the payload appears here with real values.'
            : stopped
              ? `Mend this first: ${stopped.message}`
              : trouble
                ? ''
                : heldWords(preview, steps)}
        </p>
      )}
      <Was {...{ publication, onReplay, onWeigh }} />
    </>
  )
}

/** Ways to what was sent before, and to what it costs. */
function Was({ publication, onReplay, onWeigh }: { publication: Publication | null; onReplay: (() => void) | null; onWeigh: (() => void) | null }) {
  return (
    <>
      {publication && onReplay && (
        <>
          <Heading>What was sent</Heading>
          <span className="flex flex-wrap gap-1.5 py-1">
            <Button small onClick={() => go(`/proof/journal?of=${publication.id}&to=${publication.destinationId}`)}>
              Open its journal
            </Button>
            <Button small title="Why something does not arrive: each hop of its way" onClick={() => go(findHopOf('publication', publication.id))}>
              Find the hop
            </Button>
            <Button small title="What was sent lately, sent once more through the publication as it is edited here" onClick={onReplay}>
              Replay it
            </Button>
          </span>
        </>
      )}
      {onWeigh && (
        <>
          <Heading>What it costs</Heading>
          <span className="flex flex-wrap gap-1.5 py-1">
            <Button small title="Messages and octets a day, and what other ways to send the same would cost and lose" onClick={onWeigh}>
              Data budget
            </Button>
          </span>
        </>
      )}
    </>
  )
}

/** Why there is no message. */
function heldWords(preview: Preview | null, steps: readonly Step[]): string {
  if (!preview) return 'Looking ...'
  const { heldBy } = preview
  const step = heldBy === null ? undefined : steps[heldBy]
  return step
    ? `Step ${heldBy! + 1}, ${stepNames[step.kind]}, holds this message back with the values of this moment.`
    : 'Nothing to say with the values of this moment.'
}

const hops: [keyof LastMessage, string][] = [
  ['deviceAt', 'Device'],
  ['producedAt', 'Produced'],
  ['storedAt', 'Stored'],
  ['sentAt', 'Sent'],
  ['acknowledgedAt', 'Acknowledged'],
  ['confirmedAt', 'Confirmed by witness'],
]

/** `silent`: nobody acknowledges there. */
function Way({ message, silent }: { message: LastMessage; silent: boolean }) {
  return (
    <ol>
      {hops.map(([key, label]) => {
        const at = message[key] as number | null
        const after = at === null ? null : at - message.deviceAt
        return (
          <li key={key} className="flex items-center gap-2 py-[3px]">
            <Glyph state={at === null ? 'idle' : 'good'} />
            {label}
            <span className="ml-auto font-mono text-[12.5px]" title={at === null ? '' : new Date(at).toISOString()}>
              {after === null
                ? silent && key === 'acknowledgedAt'
                  ? 'never there'
                  : 'not yet'
                : key === 'deviceAt'
                  ? '0'
                  : `+${durationText(after)}`}
            </span>
          </li>
        )
      })}
    </ol>
  )
}

import { useState } from 'react'
import { type Accepted, findingKey, type Looked, type Preflight, toAccept } from '~/contract/preflight'
import type { Finding, Publication } from '~/contract/publication'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { Heading, type Problem, ProblemNote } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { DifferenceLines } from '../Versions'
import { FindingList } from './FindingList'
import { reachWords } from './words'

export interface GoLiveChoice {
  note: string
  accepted: Accepted[]
  looked: Looked[]
}

/** What was looked at, with all its warnings accepted. */
export const asChosen = (clauses: readonly Preflight[]): Omit<GoLiveChoice, 'note'> => ({
  accepted: clauses.flatMap((p) => toAccept(p.findings)).map(({ section, message }) => ({ section, message })),
  looked: clauses.map(({ id, version }) => ({ id, version })),
})

/** Warnings that somebody lives with. */
export function useAccepted(before: () => readonly string[] = () => []) {
  const [accepted, setAccepted] = useState<ReadonlySet<string>>(() => new Set(before()))
  const accept = (keys: readonly string[], yes: boolean) =>
    setAccepted((now) => new Set(yes ? [...now, ...keys] : [...now].filter((k) => !keys.includes(k))))
  return [accepted, accept] as const
}

/** Warnings that were accepted with the live version already. */
export const knownWarnings = ({ findings, acceptedBefore }: Preflight) => toAccept(findings).filter((f) => acceptedBefore.includes(f.message))

const NOTE_MOST = 500

/** Everything that is to be known before a go-live: what stops it, what has to be lived with, what changes outside. */
export function GoLiveDialog({
  publication,
  root,
  preflight,
  trouble,
  busy,
  onGo,
  onMend,
  onAgain,
  onClose,
}: {
  publication: Publication
  /** Of a further clause: the publication that it hangs on. */
  root: Publication | null
  /** Clause by clause; null: it is looked. */
  preflight: readonly Preflight[] | null
  /** Why there is none. */
  trouble: Problem | null
  busy: boolean
  onGo(choice: GoLiveChoice): void
  onMend(set: Record<string, unknown>): void
  /** Looks once more. */
  onAgain(): void
  onClose(): void
}) {
  const [accepted, accept] = useAccepted(() => (preflight ?? []).flatMap((p) => knownWarnings(p).map((f) => clauseKey(p, f))))
  const [note, setNote] = useState('')
  const clauses = preflight ?? []
  const stops = clauses.flatMap((p) => p.findings.filter((f) => f.severity === 'stops'))
  const warnings = clauses.flatMap((p) => toAccept(p.findings).map((finding) => ({ finding, key: clauseKey(p, finding) })))
  const open = warnings.filter((w) => !accepted.has(w.key))
  const go = () => onGo({ note, ...asChosen(clauses) })
  const first = root ?? publication
  const title = `${first.name}: version ${(first.liveVersion ?? 0) + 1}`
  return (
    <Modal
      open
      onClose={onClose}
      title={title}
      width={720}
      foot={
        <>
          <span className="mr-auto text-muted">
            {stops.length > 0
              ? `${stops.length} ${stops.length === 1 ? 'error stops' : 'errors stop'} it`
              : open.length > 0
                ? `${open.length} ${open.length === 1 ? 'warning is' : 'warnings are'} still to be accepted`
                : ''}
          </span>
          <Button onClick={onClose}>Leave it as it is</Button>
          <Button kind="main" busy={busy} disabled={!preflight || stops.length > 0 || open.length > 0} onClick={go}>
            Go live
          </Button>
        </>
      }
    >
      {trouble && (
        <>
          <ProblemNote problem={trouble} />
          <Button small busy={busy} onClick={onAgain}>
            Look again
          </Button>
        </>
      )}
      {!preflight && !trouble && <p className="text-muted">Looking at tags, contract and destination ...</p>}
      {preflight && (
        <div className="grid gap-3">
          {open.length > 1 && (
            <button
              type="button"
              className="justify-self-start text-xs text-slate underline"
              onClick={() =>
                accept(
                  warnings.map((w) => w.key),
                  true,
                )
              }
            >
              Accept all warnings
            </button>
          )}
          {clauses.map((p) => (
            <ClausePreflight
              key={p.id}
              preflight={p}
              alone={clauses.length === 1}
              version={first.liveVersion}
              accepted={accepted}
              accept={accept}
              {...(p.id === publication.id && { onMend })}
            />
          ))}
          <section aria-label="Why">
            <Heading>Why, for who looks later</Heading>
            <textarea
              aria-label="Note"
              rows={2}
              maxLength={NOTE_MOST}
              className="w-full rounded-sm border border-line bg-sheet px-2 py-1"
              value={note}
              onChange={(e) => setNote(e.target.value)}
            />
            {note.length > NOTE_MOST - 50 && <span className="text-xs text-muted">{countText(NOTE_MOST - note.length)} characters left</span>}
          </section>
        </div>
      )}
    </Modal>
  )
}

/** Of which clause a warning is accepted. */
const clauseKey = ({ id }: Preflight, finding: Finding) => `${id} ${findingKey(finding)}`

/** What is to be known of one clause, and what changes of it. */
function ClausePreflight({
  preflight,
  alone,
  version,
  accepted,
  accept,
  onMend,
}: {
  preflight: Preflight
  /** There is no other one. */
  alone: boolean
  /** That is live. */
  version: number | null
  accepted: ReadonlySet<string>
  accept(keys: readonly string[], yes: boolean): void
  onMend?: (set: Record<string, unknown>) => void
}) {
  const { name, findings, reach, differences } = preflight
  const of = alone ? '' : ` of ${name}`
  const shown = new Set(findings.filter((f) => accepted.has(clauseKey(preflight, f))).map(findingKey))
  return (
    <>
      <section aria-label={`Preflight${of}`}>
        <Heading>Preflight{of}</Heading>
        {findings.length === 0 ? (
          <p className="text-good">Nothing is wrong with it.</p>
        ) : (
          <FindingList findings={findings} accepted={shown} onAccept={(f, yes) => accept([clauseKey(preflight, f)], yes)} onMend={onMend} />
        )}
        {reachWords(reach) && <p className="mt-1 text-muted">{reachWords(reach)}.</p>}
      </section>
      {differences && (
        <section aria-label={`What changes${of}`}>
          <Heading>What changes against version {version}</Heading>
          {differences.count === 0 ? (
            <p className="text-muted">Nothing: it would be frozen as it is live.</p>
          ) : (
            <DifferenceLines label={`What changes${of}`} {...differences} />
          )}
        </section>
      )}
    </>
  )
}

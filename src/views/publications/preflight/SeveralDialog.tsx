import { useRef, useState } from 'react'
import { toast } from 'sonner'
import { findingKey, type Preflight, toAccept } from '~/contract/preflight'
import type { Publication } from '~/contract/publication'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Modal } from '~/ui/Modal'
import { call, failureIn, refresh } from '../../app/api'
import { tellFailure } from '../../shared/problems'
import { FindingList } from './FindingList'
import { asChosen, knownWarnings, useAccepted } from './GoLiveDialog'

/** So many are looked at in one request. */
const AT_ONCE = 10

const count = (n: number) => `${n} ${n === 1 ? 'publication' : 'publications'}`

/** Several publications: one preflight over all of them, then they go live, pause or resume one after the other. */
export function SeveralDialog({ publications, onClose }: { publications: readonly Publication[]; onClose(): void }) {
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set())
  const [found, setFound] = useState<readonly Preflight[] | null>(null)
  const [progress, setProgress] = useState<{ words: string; done: number; of: number } | null>(null)
  const [stopping, setStopping] = useState(false)
  /** Whether the run under way ends after the one that it is at. */
  const stopped = useRef(false)
  const [failed, setFailed] = useState<ReadonlyMap<string, string>>(new Map())
  const [accepted, accept] = useAccepted()
  const some = publications.filter((p) => chosen.has(p.id))
  const key = (id: string, f: Parameters<typeof findingKey>[0]) => `${id} ${findingKey(f)}`
  const stops = some.filter((p) => (found ?? []).some((f) => f.rootId === p.id && f.findings.some((one) => one.severity === 'stops')))
  const open = (found ?? []).flatMap((p) => toAccept(p.findings).filter((f) => !accepted.has(key(p.id, f))))
  const choose = (ids: readonly string[], yes: boolean) => {
    setChosen((now) => new Set(yes ? [...now, ...ids] : [...now].filter((id) => !ids.includes(id))))
    setFound(null)
  }

  const look = async () => {
    const all: Preflight[] = []
    try {
      for (let i = 0; i < some.length; i += AT_ONCE) {
        setProgress({ words: 'Looking', done: i, of: some.length })
        all.push(...(await call('preflight', { body: { ids: some.slice(i, i + AT_ONCE).map((p) => p.id) } })))
      }
      setFound(all)
      accept(
        all.flatMap((p) => knownWarnings(p).map((f) => key(p.id, f))),
        true,
      )
    } catch (e) {
      tellFailure(e)
    } finally {
      setProgress(null)
    }
  }

  /** One after the other; what one of them refuses is told beside it, and the others go on. */
  const each = async (words: string, of: readonly Publication[], act: (p: Publication) => Promise<unknown>, done: string) => {
    const wrong = new Map<string, string>()
    stopped.current = false
    setStopping(false)
    let n = 0
    for (const p of of) {
      if (stopped.current) break
      setProgress({ words, done: n, of: of.length })
      try {
        await act(p)
        n++
      } catch (e) {
        const f = failureIn(e)
        wrong.set(p.id, `${f.message}. ${f.hint}`)
      }
    }
    setProgress(null)
    setFailed(wrong)
    await refresh('listPublications')
    if (wrong.size === 0 && !stopped.current) {
      toast.success(`${count(n)} ${done}`)
      onClose()
    } else toast(`${count(n)} ${done}, ${wrong.size} not${stopped.current ? '; stopped' : ''}`)
  }
  const goLive = () =>
    each(
      'Going live',
      some,
      (p) => {
        return call('goLive', { params: { id: p.id }, body: asChosen(found!.filter((f) => f.rootId === p.id)) })
      },
      'live',
    )
  const live = some.filter((p) => p.state === 'live')
  const paused = some.filter((p) => p.state === 'paused')
  const ready = found !== null && stops.length === 0 && open.length === 0
  return (
    <Modal
      open
      onClose={onClose}
      title="Several publications"
      width={760}
      foot={
        <>
          <span className="mr-auto text-muted" role="status">
            {progress
              ? `${progress.words}: ${progress.done} of ${progress.of}`
              : found && stops.length > 0
                ? `${count(stops.length)} cannot go live: take them out, or mend them`
                : found && open.length > 0
                  ? `${open.length} ${open.length === 1 ? 'warning is' : 'warnings are'} still to be accepted`
                  : `${some.length} of ${publications.length} chosen`}
          </span>
          {progress ? (
            <Button
              disabled={stopping}
              onClick={() => {
                stopped.current = true
                setStopping(true)
              }}
            >
              Stop
            </Button>
          ) : (
            <>
              <Button
                disabled={live.length === 0}
                onClick={() => void each('Pausing', live, (p) => call('pausePublication', { params: { id: p.id } }), 'paused')}
              >
                Pause {live.length > 0 && live.length}
              </Button>
              <Button
                disabled={paused.length === 0}
                onClick={() => void each('Resuming', paused, (p) => call('resumePublication', { params: { id: p.id } }), 'resumed')}
              >
                Resume {paused.length > 0 && paused.length}
              </Button>
              {found ? (
                <Button kind="main" disabled={!ready} onClick={() => void goLive()}>
                  Go live with {some.length}
                </Button>
              ) : (
                <Button kind="main" disabled={some.length === 0} onClick={() => void look()}>
                  Preflight
                </Button>
              )}
            </>
          )}
        </>
      }
    >
      <label className="flex items-center gap-2 pb-1">
        <input
          type="checkbox"
          className="accent-(--clay)"
          checked={some.length === publications.length}
          onChange={(e) =>
            choose(
              publications.map((p) => p.id),
              e.target.checked,
            )
          }
        />
        all of them
        {open.length > 1 && (
          <button
            type="button"
            className="ml-auto text-xs text-slate underline"
            onClick={() =>
              accept(
                found!.flatMap((p) => toAccept(p.findings).map((f) => key(p.id, f))),
                true,
              )
            }
          >
            Accept all warnings
          </button>
        )}
      </label>
      <ul aria-label="Publications to choose" className="border-t border-line">
        {publications.map((p) => {
          const clauses = (found ?? []).filter((f) => f.rootId === p.id)
          const cannot = stops.includes(p)
          return (
            <li key={p.id} className="border-b border-line py-1">
              <label className="flex items-center gap-2">
                <input type="checkbox" className="accent-(--clay)" checked={chosen.has(p.id)} onChange={(e) => choose([p.id], e.target.checked)} />
                <span className="min-w-0 flex-1 truncate">{p.name}</span>
                {clauses.length > 0 && clauses.every((f) => f.findings.length === 0) && <span className="text-good">nothing is wrong with it</span>}
                {cannot && <Glyph state="bad" title="cannot go live" />}
                <span className="w-44 text-right text-muted">
                  {p.state}
                  {p.liveVersion !== null && `, version ${p.liveVersion}`}
                  {p.editedSinceLive && ', edited'}
                </span>
              </label>
              {failed.get(p.id) && (
                <p role="alert" className="pl-6 text-bad">
                  {failed.get(p.id)}
                </p>
              )}
              {clauses
                .filter((c) => c.findings.length > 0)
                .map((c) => (
                  <div key={c.id} className="pl-6">
                    {c.id !== p.id && <p className="text-muted">{c.name}</p>}
                    <FindingList
                      findings={c.findings}
                      accepted={new Set(c.findings.filter((f) => accepted.has(key(c.id, f))).map(findingKey))}
                      onAccept={(f, yes) => accept([key(c.id, f)], yes)}
                    />
                  </div>
                ))}
            </li>
          )
        })}
      </ul>
    </Modal>
  )
}

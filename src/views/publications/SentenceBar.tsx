import type { ReactNode } from 'react'
import type { Condition } from '~/contract/live'
import type { Publication } from '~/contract/publication'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { glyphOf } from '../shared/condition'
import { editedWhole } from './also/words'
import type { PublicationEdit } from './usePublicationDraft'

interface Props {
  publication: Publication | null
  /** Of a further clause: the publication that it hangs on. */
  root: Publication | null
  /** Those that hang on it. */
  clauses: readonly Publication[]
  condition: Condition | null
  edit: PublicationEdit
  mayEdit: boolean
  add: ReactNode
}

/** How a publication is doing, what is wrong with what is written, and what can be done with it. */
export function SentenceBar({ publication, root, clauses, condition, edit, mayEdit, add }: Props) {
  const ask = useAsk()
  const mayRun = useMay('operator')
  const { draft, set, preview, busy, dirty, unfit, saveOnly, goLive, run, sayNow, remove } = edit
  const findings = preview?.findings ?? []
  const stops = findings.filter((f) => f.severity === 'stops').length
  const live = publication?.state === 'live'
  const edited = publication && (editedWhole(publication, clauses) || (dirty && publication.liveVersion !== null))
  /** Who it does something with. */
  const all = root ? ` with all of ${root.name}` : clauses.length > 0 ? ' with its further clauses' : ''
  return (
    <Row station="publications" page="List">
      {publication && (
        <span className="flex items-center gap-2 rounded-sm border border-line bg-sheet px-2 py-[3px] text-xs" data-state={publication.state}>
          <Glyph state={live ? (condition ? glyphOf(condition) : 'uncertain') : 'idle'} />
          {live && condition && condition.state !== 'running' ? `${condition.state} · ` : ''}
          {publication.state}
          {publication.liveVersion !== null && ` · version ${publication.liveVersion}`}
        </span>
      )}
      {edited && <span className="text-xs text-muted">edits not live</span>}
      {findings.length > 0 && (
        <span className={`text-xs ${stops > 0 ? 'text-bad' : 'text-uncertain'}`}>
          {stops > 0 ? `${stops} ${stops === 1 ? 'error' : 'errors'}` : `${findings.length} ${findings.length === 1 ? 'warning' : 'warnings'}`}
        </span>
      )}
      {publication && (
        <Button disabled={!mayEdit || unfit} title="Looks at tags, contract and destination, and freezes nothing" onClick={() => void goLive(true)}>
          Preflight
        </Button>
      )}
      {root && publication ? (
        <Button disabled={!mayEdit} title="From the next go-live on" onClick={() => set({ off: draft.off ? undefined : true })}>
          {draft.off ? 'Switch on' : 'Switch off'}
        </Button>
      ) : (
        add
      )}
      {publication && !live && (
        <Button
          kind="danger"
          disabled={!mayEdit}
          onClick={async () => {
            const text = `${clauses.length > 0 ? 'Its further clauses, its' : 'Its'} frozen versions and its account in the ledger go too. This cannot be undone.`
            if (await ask({ title: `Remove ${publication.name}`, text, act: 'Remove publication' })) void remove()
          }}
        >
          Remove
        </Button>
      )}
      {live && (
        <Button busy={busy === 'say'} disabled={!mayRun} title={`Sends how things are, once, beside its trigger${all}`} onClick={() => void sayNow()}>
          Send once
        </Button>
      )}
      {live && (
        <Button busy={busy === 'pause'} disabled={!mayRun} title={all && `Pauses${all}`} onClick={() => void run('pausePublication')}>
          Pause
        </Button>
      )}
      {publication?.state === 'paused' && !publication.off && (
        <Button busy={busy === 'pause'} disabled={!mayRun} title={all && `Resumes${all}`} onClick={() => void run('resumePublication')}>
          Resume
        </Button>
      )}
      <Button disabled={!mayEdit || !dirty} busy={busy === 'save'} onClick={() => void saveOnly()}>
        Save
      </Button>
      <Button
        kind="main"
        disabled={!mayEdit || stops > 0 || unfit}
        busy={busy === 'live'}
        title={stops > 0 ? 'Mend what stops it first' : `Freezes a version and sends it${all}`}
        onClick={() => void goLive()}
      >
        Go live
      </Button>
    </Row>
  )
}

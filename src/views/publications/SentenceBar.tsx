import type { ReactNode } from 'react'
import type { Condition } from '~/contract/live'
import type { Publication } from '~/contract/publication'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { glyphOf } from '../shared/condition'
import type { PublicationEdit } from './usePublicationDraft'

interface Props {
  publication: Publication | null
  condition: Condition | null
  edit: PublicationEdit
  mayEdit: boolean
  add: ReactNode
}

/** How a publication is doing, what is wrong with what is written, and what can be done with it. */
export function SentenceBar({ publication, condition, edit, mayEdit, add }: Props) {
  const ask = useAsk()
  const mayRun = useMay('operator')
  const { preview, busy, dirty, unfit, saveOnly, goLive, run, sayNow, remove } = edit
  const findings = preview?.findings ?? []
  const stops = findings.filter((f) => f.severity === 'stops').length
  const live = publication?.state === 'live'
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
      {publication && (publication.editedSinceLive || (dirty && publication.liveVersion !== null)) && (
        <span className="text-xs text-muted">edits not live</span>
      )}
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
      {add}
      {publication && !live && (
        <Button
          kind="danger"
          disabled={!mayEdit}
          onClick={async () => {
            const text = 'Its frozen versions and its account in the ledger go too. This cannot be undone.'
            if (await ask({ title: `Remove ${publication.name}`, text, act: 'Remove publication' })) void remove()
          }}
        >
          Remove
        </Button>
      )}
      {live && (
        <Button busy={busy === 'say'} disabled={!mayRun} title="Sends how things are, once, beside its trigger" onClick={() => void sayNow()}>
          Send once
        </Button>
      )}
      {live && (
        <Button busy={busy === 'pause'} disabled={!mayRun} onClick={() => void run('pausePublication')}>
          Pause
        </Button>
      )}
      {publication?.state === 'paused' && (
        <Button busy={busy === 'pause'} disabled={!mayRun} onClick={() => void run('resumePublication')}>
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
        title={stops > 0 ? 'Mend what stops it first' : 'Freezes a version and sends it'}
        onClick={() => void goLive()}
      >
        Go live
      </Button>
    </Row>
  )
}

import { useState } from 'react'
import type { Source, SourceKind } from '~/contract/source'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { kindList } from './kinds'
import { KindForm } from './SourceSettings'

/** Adds a source: first of which kind, then its settings. Or edits one. */
export function SourceForm({ source, onClose, onSaved }: { source: Source | null; onClose(): void; onSaved(s: Source): void }) {
  const [kind, setKind] = useState<SourceKind | null>(source?.kind ?? null)
  if (kind) return <KindForm kind={kind} source={source} onClose={onClose} onSaved={onSaved} {...(!source && { onBack: () => setKind(null) })} />
  return (
    <Modal
      open
      onClose={onClose}
      width={620}
      title="Add a source"
      note="Over which protocol do its values come?"
      foot={<Button onClick={onClose}>Cancel</Button>}
    >
      <ul className="divide-y divide-line border-y border-line">
        {kindList.map((k, i) => (
          <li key={k.kind}>
            <button
              type="button"
              // biome-ignore lint/a11y/noAutofocus: the dialog's first choice
              autoFocus={i === 0}
              onClick={() => setKind(k.kind)}
              className="grid w-full grid-cols-[140px_1fr] gap-3 px-2 py-2.5 text-left hover:bg-well focus-visible:bg-wash"
            >
              <span className="font-semibold">{k.label}</span>
              <span className="text-muted">{k.note}</span>
            </button>
          </li>
        ))}
      </ul>
    </Modal>
  )
}

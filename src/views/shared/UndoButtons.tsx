import { Redo2, Undo2 } from 'lucide-react'
import { useEffect } from 'react'
import { Button } from '~/ui/Button'
import type { AnyEdits } from './undo'

export function UndoButtons({ edits, mayEdit }: { edits: AnyEdits; mayEdit: boolean }) {
  const stacks = edits.useStacks()
  const last = stacks.undo.at(-1)
  const next = stacks.redo.at(-1)
  return (
    <>
      <Button
        disabled={!mayEdit || !last || stacks.busy}
        onClick={() => void edits.undo()}
        aria-label="Undo"
        title={last ? `Ctrl+Z takes back: ${last.label}` : 'Nothing to take back'}
      >
        <Undo2 size={14} />
      </Button>
      <Button
        disabled={!mayEdit || !next || stacks.busy}
        onClick={() => void edits.redo()}
        aria-label="Redo"
        title={next ? `Ctrl+Y does again: ${next.label}` : 'Nothing to do again'}
      >
        <Redo2 size={14} />
      </Button>
    </>
  )
}

/** Ctrl+Z takes back, Ctrl+Y or Ctrl+Shift+Z does again; not while something is typed, where they belong to the text. */
export function useUndoKeys(edits: AnyEdits, mayEdit: boolean): void {
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))
      if (typing || !mayEdit || !(e.ctrlKey || e.metaKey)) return
      const key = e.key.toLowerCase()
      if (key === 'z' && !e.shiftKey) void edits.undo()
      else if (key === 'y' || (key === 'z' && e.shiftKey)) void edits.redo()
      else return
      e.preventDefault()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [edits, mayEdit])
}

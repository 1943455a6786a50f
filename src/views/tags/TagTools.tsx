import { Columns3, Redo2, Undo2 } from 'lucide-react'
import { Popover } from 'radix-ui'
import { useEffect } from 'react'
import { Button } from '~/ui/Button'
import { redo, undo, useEdits } from './edit/edits'
import { gridColumns } from './table/columns'
import type { Columns } from './table/useColumns'

export function UndoButtons({ mayEdit }: { mayEdit: boolean }) {
  const edits = useEdits()
  const last = edits.undo.at(-1)
  const next = edits.redo.at(-1)
  return (
    <>
      <Button
        disabled={!mayEdit || !last || edits.busy}
        onClick={() => void undo()}
        aria-label="Undo"
        title={last ? `Ctrl+Z takes back: ${last.label}` : 'Nothing to take back'}
      >
        <Undo2 size={14} />
      </Button>
      <Button
        disabled={!mayEdit || !next || edits.busy}
        onClick={() => void redo()}
        aria-label="Redo"
        title={next ? `Ctrl+Y does again: ${next.label}` : 'Nothing to do again'}
      >
        <Redo2 size={14} />
      </Button>
    </>
  )
}

/** Ctrl+Z takes back, Ctrl+Y or Ctrl+Shift+Z does again; not while something is typed, where they belong to the text. */
export function useUndoKeys(mayEdit: boolean): void {
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))
      if (typing || !mayEdit || !(e.ctrlKey || e.metaKey)) return
      const key = e.key.toLowerCase()
      if (key === 'z' && !e.shiftKey) void undo()
      else if (key === 'y' || (key === 'z' && e.shiftKey)) void redo()
      else return
      e.preventDefault()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [mayEdit])
}

export function ColumnChoice({ columns }: { columns: Columns }) {
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <Button small title="Which columns are shown">
          <Columns3 size={12} /> Columns
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          className="z-40 w-[380px] rounded-sm border border-line bg-sheet p-2 shadow-[0_6px_24px_rgb(0_0_0/0.18)]"
        >
          <div className="grid grid-cols-2 gap-x-2">
            {gridColumns
              .filter((c) => c.id !== 'name' && c.id !== 'state')
              .map((c) => (
                <label key={c.id} className="flex items-center gap-2 rounded-sm px-1.5 py-[2px] hover:bg-well" title={c.setting?.help}>
                  <input
                    type="checkbox"
                    className="accent-(--clay)"
                    checked={columns.shown(c.id)}
                    onChange={(e) => columns.show(c.id, e.target.checked)}
                  />
                  {c.label}
                </label>
              ))}
          </div>
          <div className="mt-1 flex items-center justify-between border-t border-line pt-1.5">
            <span className="text-xs text-muted">Drag a heading to move it</span>
            <Button small kind="quiet" onClick={columns.reset}>
              As at first
            </Button>
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}

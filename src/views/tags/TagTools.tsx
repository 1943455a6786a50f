import { Columns3 } from 'lucide-react'
import { Popover } from 'radix-ui'
import { Button } from '~/ui/Button'
import { gridColumns } from './table/columns'
import type { Columns } from './table/useColumns'

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

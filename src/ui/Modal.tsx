import { X } from 'lucide-react'
import { Dialog } from 'radix-ui'
import type { ReactNode } from 'react'

/** A sheet over the bench, for work that has an end. Escape closes it. */
export function Modal({
  open,
  onClose,
  title,
  note,
  width = 640,
  children,
  foot,
}: {
  open: boolean
  onClose(): void
  title: string
  note?: ReactNode
  width?: number
  children: ReactNode
  foot?: ReactNode
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/35 dark:bg-black/55" />
        <Dialog.Content
          className="fixed top-[52px] left-1/2 z-50 flex max-h-[calc(100vh-76px)] -translate-x-1/2 flex-col rounded-sm border border-line bg-paper shadow-[0_10px_40px_rgb(0_0_0/0.22)]"
          // In an editor Escape closes what it offers; it must not lose what was written.
          onEscapeKeyDown={(e) => {
            if (document.activeElement?.closest('.cm-editor')) e.preventDefault()
          }}
          style={{ width: `min(${width}px, calc(100vw - 32px))` }}
        >
          <header className="flex items-start justify-between gap-4 border-b border-line px-4 py-2.5">
            <div>
              <Dialog.Title className="text-[15px] font-semibold">{title}</Dialog.Title>
              <Dialog.Description className="text-muted">{note}</Dialog.Description>
            </div>
            <Dialog.Close className="rounded-sm p-1 text-muted hover:bg-well" aria-label="Close">
              <X size={16} />
            </Dialog.Close>
          </header>
          <div className="min-h-0 flex-1 overflow-auto px-4 py-3">{children}</div>
          {foot && <footer className="flex items-center justify-end gap-2 border-t border-line px-4 py-2.5">{foot}</footer>}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

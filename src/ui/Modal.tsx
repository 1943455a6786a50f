import { X } from 'lucide-react'
import { Dialog } from 'radix-ui'
import { type FormEvent, type ReactNode, useRef, useState } from 'react'
import { Button } from './Button'

/** What is typed into a filter is no work that could be lost. */
const isWork = (e: FormEvent) => e.target instanceof Element && e.target.closest('[data-filter], [type="search"]') === null

/** The first thing to fill in; where there is none, the sheet itself takes the keys. */
function focusFirst(sheet: HTMLElement): void {
  const first = sheet.querySelector<HTMLElement>('[data-body] :is(input:not([type="hidden"]), select, textarea, .cm-content):not(:disabled)')
  const begun = sheet.querySelector<HTMLElement>('[data-body] [autofocus], [data-body] :is(button:not(:disabled), a[href])')
  const body = sheet.querySelector<HTMLElement>('[data-body]')
  // A sheet that is only read is scrolled by keys.
  if (!first && !begun && body) body.tabIndex = 0
  ;(first ?? begun ?? body ?? sheet).focus()
}

/** What had the focus before a sheet opened. */
const openers = new WeakMap<Element, Element>()

/** The focus goes back to where it was before, also when that was in a sheet whose place this one took. */
function focusBack(opener: Element | null): void {
  // Another sheet that took the place of this one has the focus already.
  const another = document.querySelector('[data-sheet]') !== null
  for (let at = opener; at; at = openers.get(at.closest('[data-sheet]') ?? at) ?? null)
    if (at.isConnected) return at instanceof HTMLElement && (!another || at.closest('[data-sheet]')) ? at.focus() : undefined
}

/** A sheet over the bench, for work that has an end. Escape closes it, and asks first where something was typed. */
export function Modal({
  open,
  onClose,
  title,
  note,
  width = 640,
  filled = false,
  children,
  foot,
}: {
  open: boolean
  onClose(): void
  title: string
  note?: ReactNode
  width?: number
  /** Something was put into it otherwise than by typing. */
  filled?: boolean
  children: ReactNode
  foot?: ReactNode
}) {
  const sheet = useRef<HTMLDivElement>(null)
  const typed = useRef(false)
  const [asking, setAsking] = useState(false)
  // Read while it is made: a field that takes the focus by itself has it before the sheet is there.
  const [opener] = useState(() => document.activeElement)
  const leave = () => {
    if ((typed.current || filled) && !asking) setAsking(true)
    else onClose()
  }
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && leave()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/35 dark:bg-black/55" />
        <Dialog.Content
          ref={(made) => {
            sheet.current = made
            if (made && opener) openers.set(made, opener)
          }}
          data-sheet
          className="fixed top-[52px] left-1/2 z-50 flex max-h-[calc(100vh-76px)] -translate-x-1/2 flex-col rounded-sm border border-line bg-paper shadow-[0_10px_40px_rgb(0_0_0/0.22)]"
          onOpenAutoFocus={(e) => {
            e.preventDefault()
            if (sheet.current && !sheet.current.contains(document.activeElement)) focusFirst(sheet.current)
          }}
          onCloseAutoFocus={(e) => {
            e.preventDefault()
            focusBack(opener)
          }}
          onInput={(e) => {
            typed.current ||= isWork(e)
            // What is typed into a sheet over this one is not typed into this one.
            e.stopPropagation()
          }}
          // In an editor Escape closes what it offers; it must not lose what was written.
          onEscapeKeyDown={(e) => {
            if (document.activeElement?.closest('.cm-editor')) return e.preventDefault()
            if (!asking) return
            e.preventDefault()
            setAsking(false)
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
          <div data-body className="min-h-0 flex-1 overflow-auto px-4 py-3">
            {children}
          </div>
          {asking ? (
            <footer role="alert" className="flex items-center justify-end gap-2 border-t border-bad/40 bg-bad-wash px-4 py-2.5">
              <span className="mr-auto font-semibold">What you typed is not saved.</span>
              <Button kind="danger" onClick={onClose}>
                Throw it away
              </Button>
              <Button kind="main" autoFocus onClick={() => setAsking(false)}>
                Go on writing
              </Button>
            </footer>
          ) : (
            foot && <footer className="flex items-center justify-end gap-2 border-t border-line px-4 py-2.5">{foot}</footer>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

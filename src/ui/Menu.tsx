import { DropdownMenu } from 'radix-ui'
import type { ReactNode } from 'react'

export interface MenuItem {
  label: string
  disabled?: boolean
  onSelect(): void
}

/** A few things to do, behind a button; `children` is the button. */
export function Menu({
  children,
  items,
  head,
  align = 'end',
  leaves = false,
}: {
  children: ReactNode
  items: readonly MenuItem[]
  head?: string
  align?: 'start' | 'end'
  /** What is done takes the focus with it: it does not go back to the button. */
  leaves?: boolean
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>{children}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align={align}
          sideOffset={4}
          {...(leaves && { onCloseAutoFocus: (e: Event) => e.preventDefault() })}
          // What lies behind the menu is not clicked with it.
          onClick={(e) => e.stopPropagation()}
          className="z-40 min-w-40 rounded-sm border border-line bg-sheet py-1 shadow-[0_6px_24px_rgb(0_0_0/0.18)]"
        >
          {head && <DropdownMenu.Label className="px-3 py-1 text-xs text-muted">{head}</DropdownMenu.Label>}
          {items.map((i) => (
            <DropdownMenu.Item
              key={i.label}
              disabled={i.disabled ?? false}
              onSelect={i.onSelect}
              className="cursor-default px-3 py-1 outline-none data-[disabled]:opacity-40 data-[highlighted]:bg-wash"
            >
              {i.label}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}

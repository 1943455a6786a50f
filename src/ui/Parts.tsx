import type { ReactNode } from 'react'
import { Group, Panel, Separator, useDefaultLayout } from 'react-resizable-panels'

/** Left what there is, middle what is worked on, right the peek. Widths are remembered by `id`. */
export function ThreeParts({
  id,
  left,
  children,
  peek,
  leftWidth = 214,
  peekWidth = 306,
}: {
  id: string
  left?: ReactNode
  children: ReactNode
  peek?: ReactNode
  leftWidth?: number
  peekWidth?: number
}) {
  const panelIds = [...(left ? ['left'] : []), 'middle', ...(peek ? ['peek'] : [])]
  const { defaultLayout, onLayoutChanged } = useDefaultLayout({ id: `parts-${id}`, panelIds, storage: localStorage })
  return (
    <Group className="min-h-0 flex-1" defaultLayout={defaultLayout} onLayoutChanged={onLayoutChanged}>
      {left && (
        <>
          <Panel id="left" defaultSize={leftWidth} minSize={150} maxSize="40" groupResizeBehavior="preserve-pixel-size">
            <aside className="h-full overflow-auto py-2" aria-label="What there is">
              {left}
            </aside>
          </Panel>
          <Bar />
        </>
      )}
      <Panel id="middle" minSize="25">
        <Middle>{children}</Middle>
      </Panel>
      {peek && (
        <>
          <Bar />
          <Panel id="peek" defaultSize={peekWidth} minSize={210} maxSize="55" groupResizeBehavior="preserve-pixel-size">
            <aside className="h-full overflow-auto bg-sheet p-3" aria-label="Peek">
              {peek}
            </aside>
          </Panel>
        </>
      )}
    </Group>
  )
}

/** The middle alone, where there is nothing beside it. */
export function Middle({ children }: { children: ReactNode }) {
  return <main className="flex h-full min-h-0 min-w-0 flex-1 flex-col overflow-auto">{children}</main>
}

function Bar() {
  return <Separator className="w-px bg-line transition-colors data-[separator=hover]:bg-slate data-[separator=drag]:bg-slate" />
}

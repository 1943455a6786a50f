import { Command } from 'cmdk'
import { Dialog } from 'radix-ui'
import { type ReactNode, useMemo, useState } from 'react'
import { rankTags } from '~/core/equipment/matching'
import { go } from './address'
import { useCall } from './api'
import { useMay } from './caller'
import { stations } from './stations'
import { setTheme, useTheme } from './theme'

interface Hit {
  id: string
  name: string
  aside: string
  href: string
}

/** Finds any tag, equipment, publication, source, destination, page or command. */
export function Palette({ open, onClose }: { open: boolean; onClose(): void }) {
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/25 dark:bg-black/50" />
        <Dialog.Content
          className="fixed top-[64px] left-1/2 z-50 w-[560px] -translate-x-1/2 overflow-hidden rounded-sm border border-line bg-sheet shadow-[0_10px_40px_rgb(0_0_0/0.22)]"
          aria-describedby={undefined}
        >
          <Dialog.Title className="sr-only">Find</Dialog.Title>
          <Finder onClose={onClose} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

function Finder({ onClose }: { onClose(): void }) {
  const [query, setQuery] = useState('')
  const tags = useCall('listTags')
  const equipment = useCall('listEquipment')
  const publications = useCall('listPublications')
  const sources = useCall('listSources')
  const destinations = useCall('listDestinations')
  const theme = useTheme()
  const engineer = useMay('engineer')
  const groups = useMemo(() => {
    const find = <T extends { id: string; name: string }>(
      items: readonly T[] | undefined,
      limit: number,
      hit: (t: T) => Omit<Hit, 'id' | 'name'>,
    ): Hit[] => (query.trim() === '' ? [] : rankTags(query, items ?? [], limit).map((t) => ({ id: t.id, name: t.name, ...hit(t) })))
    const word = query.trim().toLowerCase()
    const pages: Hit[] = stations
      .flatMap((s) =>
        s.pages.map((p, i) => ({
          id: p.href,
          name: i === 0 ? s.label : `${s.label}, ${p.label.toLowerCase()}`,
          aside: i === 0 ? `g ${s.letter}` : '',
          href: p.href,
        })),
      )
      .filter((p) => p.name.toLowerCase().includes(word))
    const commands: Hit[] = engineer
      ? [
          { id: 'c1', name: 'Add a source', aside: '', href: '/sources?add' },
          { id: 'c2', name: 'Add tags', aside: '', href: '/sources/browse' },
          { id: 'c3', name: 'New publication', aside: '', href: '/publications?add' },
          { id: 'c4', name: 'Add a destination', aside: '', href: '/destinations?add' },
        ].filter((c) => c.name.toLowerCase().includes(word))
      : []
    return [
      ['Go to', pages],
      ['Do', commands],
      ['Tags', find(tags.data, 12, (t) => ({ aside: t.unit || t.dataType, href: `/tags?tag=${t.id}` }))],
      ['Equipment', find(equipment.data, 8, (e) => ({ aside: e.level, href: `/equipment?id=${e.id}` }))],
      ['Publications', find(publications.data, 8, (p) => ({ aside: p.state, href: `/publications?id=${p.id}` }))],
      ['Sources', find(sources.data, 5, () => ({ aside: 'OPC UA', href: '/sources' }))],
      ['Destinations', find(destinations.data, 5, () => ({ aside: 'MQTT', href: '/destinations' }))],
    ] as const
  }, [query, tags.data, equipment.data, publications.data, sources.data, destinations.data, engineer])
  const other = theme === 'dark' ? 'light' : 'dark'
  return (
    <Command shouldFilter={false} label="Find" loop>
      <Command.Input
        autoFocus
        value={query}
        onValueChange={setQuery}
        placeholder="Tag, equipment, publication, command ..."
        className="h-10 w-full border-b border-line bg-transparent px-3 text-[15px] outline-none placeholder:text-muted"
      />
      <Command.List className="max-h-[400px] overflow-auto p-1.5">
        <Command.Empty className="px-2 py-6 text-center text-muted">Nothing is called that.</Command.Empty>
        {groups.map(([title, hits]) =>
          hits.length === 0 ? null : (
            <Command.Group
              key={title}
              heading={title}
              className="[&_[cmdk-group-heading]]:px-2 [&_[cmdk-group-heading]]:pt-1.5 [&_[cmdk-group-heading]]:text-xs [&_[cmdk-group-heading]]:text-muted"
            >
              {hits.map((h) => (
                <Entry key={h.id} value={`${title} ${h.id}`} aside={h.aside} onSelect={() => go(h.href)}>
                  {h.name}
                </Entry>
              ))}
            </Command.Group>
          ),
        )}
        {`${other} theme`.includes(query.trim().toLowerCase()) && (
          <Entry
            value="theme"
            aside=""
            onSelect={() => {
              setTheme(other)
              onClose()
            }}
          >
            {other === 'dark' ? 'Dark' : 'Light'} theme
          </Entry>
        )}
      </Command.List>
    </Command>
  )
}

function Entry({ value, aside, onSelect, children }: { value: string; aside: string; onSelect(): void; children: ReactNode }) {
  return (
    <Command.Item
      value={value}
      onSelect={onSelect}
      className="flex h-7 cursor-pointer items-center justify-between rounded-sm px-2 data-[selected=true]:bg-wash"
    >
      <span className="truncate">{children}</span>
      <span className="ml-3 shrink-0 text-xs text-muted">{aside}</span>
    </Command.Item>
  )
}

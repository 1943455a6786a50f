import { Command } from 'cmdk'
import { Dialog } from 'radix-ui'
import { type ReactNode, useDeferredValue, useMemo, useState } from 'react'
import type { Found, FoundKind } from '~/contract/find'
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

const kinds: readonly [FoundKind, string, (f: Found) => string][] = [
  ['tag', 'Tags', (f) => `/tags?tag=${f.id}`],
  ['equipment', 'Equipment', (f) => `/equipment?id=${f.id}`],
  ['class', 'Classes', (f) => `/equipment/classes?id=${f.id}`],
  ['publication', 'Publications', (f) => `/publications?id=${f.id}`],
  ['topic', 'Topics', (f) => `/publications?id=${f.id}&section=address`],
  ['source', 'Sources', (f) => `/sources?source=${f.id}`],
  ['destination', 'Destinations', (f) => `/destinations?id=${f.id}`],
  ['credential', 'Credentials', (f) => `/destinations/credentials?id=${f.id}`],
]
const words: Record<FoundKind, string> = {
  tag: 'tag',
  equipment: 'equipment',
  class: 'class',
  publication: 'publication',
  topic: 'topic',
  source: 'source',
  destination: 'destination',
  credential: 'credential',
}

/** What was found, as groups: first what is called just so, whatever it is. */
function grouped(found: readonly Found[]): [string, Hit[]][] {
  const hit = (f: Found, aside = f.aside): Hit => ({
    id: `${f.kind} ${f.id} ${f.name}`,
    name: f.name,
    aside,
    href: kinds.find(([k]) => k === f.kind)![2](f),
  })
  const exact = found.filter((f) => f.exact).map((f) => hit(f, f.aside === words[f.kind] ? f.aside : `${words[f.kind]}, ${f.aside}`))
  return [
    ['Called just so', exact],
    ...kinds.map(([kind, title]): [string, Hit[]] => [title, found.filter((f) => f.kind === kind && !f.exact).map((f) => hit(f))]),
  ]
}

function Finder({ onClose }: { onClose(): void }) {
  const [query, setQuery] = useState('')
  const q = useDeferredValue(query.trim())
  const asked = useCall('find', { query: { q }, enabled: q !== '' })
  // What was found stays while more is typed.
  const [kept, setKept] = useState<readonly Found[]>([])
  if (asked.data && asked.data !== kept) setKept(asked.data)
  const theme = useTheme()
  const engineer = useMay('engineer')
  const groups = useMemo(() => {
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
    const found = grouped(word === '' ? [] : kept)
    return [...found.slice(0, 1), ['Go to', pages] as const, ['Do', commands] as const, ...found.slice(1)]
  }, [query, kept, engineer])
  const other = theme === 'dark' ? 'light' : 'dark'
  return (
    <Command shouldFilter={false} label="Find" loop>
      <Command.Input
        autoFocus
        value={query}
        onValueChange={setQuery}
        placeholder="Tag, equipment, publication, topic, command ..."
        className="h-10 w-full border-b border-line bg-transparent px-3 text-[15px] outline-none placeholder:text-muted"
      />
      <Command.List className="max-h-[400px] overflow-auto p-1.5">
        <Command.Empty className="px-2 py-6 text-center text-muted">{asked.isFetching ? 'Looking ...' : 'Nothing is called that.'}</Command.Empty>
        {groups.map(([title, hits]) =>
          hits.length === 0 ? null : (
            <Command.Group
              key={title}
              heading={title}
              className="[&_[cmdk-group-heading]]:px-2 [&_[cmdk-group-heading]]:pt-1.5 [&_[cmdk-group-heading]]:text-xs [&_[cmdk-group-heading]]:text-muted"
            >
              {hits.map((h) => (
                <Entry
                  key={h.id}
                  value={`${title} ${h.id}`}
                  aside={h.aside}
                  onSelect={() => {
                    onClose()
                    go(h.href)
                  }}
                >
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

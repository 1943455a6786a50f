import { Command } from 'cmdk'
import { Dialog } from 'radix-ui'
import { type KeyboardEvent, type ReactNode, useDeferredValue, useEffect, useMemo, useState } from 'react'
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

const entryValue = (title: string, h: Hit) => `${title} ${h.id}`

function Finder({ onClose }: { onClose(): void }) {
  const [query, setQuery] = useState('')
  const q = useDeferredValue(query.trim())
  const asked = useCall('find', { query: { q }, enabled: q !== '' })
  // What was found stays while more is typed.
  const [kept, setKept] = useState<{ q: string; found: readonly Found[] }>({ q: '', found: [] })
  if (asked.data && (asked.data !== kept.found || q !== kept.q)) setKept({ q, found: asked.data })
  // Whether what stands there was found for what stands in the field; where it fails nothing better will come.
  const fresh = query.trim() === '' || kept.q === query.trim() || (asked.isError && q === query.trim())
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
    const found = grouped(word === '' ? [] : kept.found)
    return [...found.slice(0, 1), ['Go to', pages] as const, ['Do', commands] as const, ...found.slice(1)]
  }, [query, kept, engineer])
  const other = theme === 'dark' ? 'light' : 'dark'
  const take = (h: Hit) => {
    onClose()
    go(h.href)
  }
  const entries = groups.flatMap(([title, hits]) => hits.map((h) => ({ value: entryValue(title, h), h })))
  const first = entries[0]
  const turnTheme = () => {
    setTheme(other)
    onClose()
  }
  const themeFits = `${other} theme`.includes(query.trim().toLowerCase())
  const firstValue = first?.value ?? (themeFits ? 'theme' : '')
  const [selected, setSelected] = useState('')
  /** What was typed has been left by arrows: the choice is theirs from then on. */
  const [moved, setMoved] = useState(false)
  /** Enter was pressed before the answer came: it means what is found for the whole text, not what stood there for a part of it. */
  const [entered, setEntered] = useState(false)
  useEffect(() => {
    if (!moved) setSelected(firstValue)
  }, [firstValue, moved])
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the answer is there
  useEffect(() => {
    if (!entered || !fresh) return
    setEntered(false)
    if (first) take(first.h)
    else if (themeFits) turnTheme()
  }, [entered, fresh])
  const onKey = (e: KeyboardEvent) => {
    if (e.key === 'ArrowDown' || e.key === 'ArrowUp' || e.key === 'Home' || e.key === 'End') setMoved(true)
    if (e.key !== 'Enter' || fresh || moved) return
    e.preventDefault()
    setEntered(true)
  }
  return (
    <Command shouldFilter={false} label="Find" loop value={selected} onValueChange={setSelected} onKeyDownCapture={onKey}>
      <Command.Input
        autoFocus
        value={query}
        onValueChange={(text) => {
          setQuery(text)
          setMoved(false)
          setEntered(false)
        }}
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
                <Entry key={h.id} value={entryValue(title, h)} aside={h.aside} onSelect={() => take(h)}>
                  {h.name}
                </Entry>
              ))}
            </Command.Group>
          ),
        )}
        {themeFits && (
          <Entry value="theme" aside="" onSelect={turnTheme}>
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

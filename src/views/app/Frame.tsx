import { BookOpen } from 'lucide-react'
import { Popover } from 'radix-ui'
import { Component, type ReactNode, useEffect, useRef, useState } from 'react'
import { Toaster } from 'sonner'
import type { Caller } from '~/contract/person'
import { allows } from '~/contract/role'
import { Button } from '~/ui/Button'
import { Mark } from '~/ui/Glyph'
import { ProblemNote } from '~/ui/Notes'
import { go } from './address'
import { call, failureIn } from './api'
import { guideFor } from './guide'
import { KeyList } from './KeyList'
import { leaveAll } from './leaving'
import { useFrame, useOnline, useWatch } from './live/live'
import { Palette } from './Palette'
import { focusPart } from './parts'
import { type StationId, settingsPages, stations } from './stations'
import { setTheme, useTheme } from './theme'

interface Props {
  caller: Caller
  station: StationId | null
  /** Its path. */
  page: string
  children: ReactNode
}

/** What stands around every view: the course, the station's pages, the finder, and who is logged in. */
export function Frame(props: Props) {
  return (
    <>
      <div className="flex h-screen flex-col overflow-hidden">
        <Course {...props} />
        <div className="from-the-line contents">
          <Guard key={props.page}>{props.children}</Guard>
        </div>
      </div>
      <Toaster
        position="bottom-center"
        toastOptions={{ style: { background: 'var(--sheet)', color: 'var(--ink)', border: '1px solid var(--line)', borderRadius: 3 } }}
      />
    </>
  )
}

/** The quiet row under the course: the station's pages, and what can be done here. Views put it first. */
export function Row({ station, page, children }: { station: StationId | null; page: string; children?: ReactNode }) {
  const pages = stations.find((s) => s.id === station)?.pages ?? settingsPages
  return (
    <div data-row className="flex h-[38px] shrink-0 items-stretch justify-between border-b border-line px-3">
      <nav className="flex gap-5" aria-label="Pages of the station">
        <h1 className="sr-only">{page}</h1>
        {pages.map((p) => (
          <a
            key={p.href}
            href={p.href}
            aria-current={p.label === page ? 'page' : undefined}
            className={`flex items-center border-b-2 ${p.label === page ? 'border-clay font-semibold' : 'border-transparent text-muted hover:text-ink'}`}
          >
            {p.label}
          </a>
        ))}
        <a
          href={guideFor(location.pathname)}
          target="_blank"
          rel="noreferrer"
          className="flex items-center text-muted hover:text-ink"
          title="What the guide says of this page, in a tab of its own"
        >
          <BookOpen size={14} aria-hidden="true" />
          <span className="sr-only">Guide to this page</span>
        </a>
      </nav>
      {children && (
        <section className="flex items-center gap-2" aria-label={`${page}: what can be done`}>
          {children}
        </section>
      )}
    </div>
  )
}

function Course({ caller, station }: Props) {
  const figures = useFrame('course')
  const online = useOnline()
  const down = useFrame('down')
  const [finding, setFinding] = useState(false)
  const [keys, setKeys] = useState(false)
  useWatch({})
  useKeys(
    () => setFinding(true),
    () => setKeys(true),
  )
  return (
    <>
      {/* Narrow, or enlarged to twice the size: all of the course stays, in two rows at last. */}
      <header className="flex min-h-[57px] shrink-0 items-center gap-3 border-b border-line px-3 max-[760px]:flex-wrap max-[760px]:gap-y-1 max-[760px]:py-1">
        <a href="/proof/wrong" className="flex w-[104px] shrink-0 items-center gap-2 max-[1200px]:w-auto" aria-label="Embrik: what is wrong">
          <Mark />
          <span className="text-[17px] font-bold tracking-tight max-[1200px]:hidden">embrik</span>
        </a>
        <nav
          className="flex min-w-0 flex-1 items-center max-[760px]:order-last max-[760px]:w-full max-[760px]:flex-none max-[760px]:flex-wrap max-[760px]:gap-y-1"
          aria-label="Course"
        >
          {stations.map((s, i) => {
            const here = s.id === station
            const trouble = figures ? s.trouble(figures) : 0
            return (
              <div
                key={s.id}
                className={`flex min-w-0 items-center ${i < stations.length - 1 ? 'flex-1' : ''} max-[760px]:flex-none max-[760px]:basis-1/3`}
              >
                <a
                  href={s.href}
                  aria-current={here ? 'page' : undefined}
                  title={`g ${s.letter}`}
                  className={`relative block h-[42px] w-[124px] shrink-0 rounded-sm border px-2.5 pt-[3px] max-[1200px]:w-[106px] max-[1200px]:px-1.5 max-[760px]:w-[124px] ${here ? 'border-ink bg-ink text-paper' : 'border-line bg-sheet hover:border-muted'}`}
                >
                  <span className="block font-semibold">{s.label}</span>
                  <span className={`block truncate font-mono text-[12px] leading-[14px] ${here ? 'text-paper/80' : 'text-muted'}`} data-figure={s.id}>
                    {figures ? s.figure(figures) : '...'}
                  </span>
                  {trouble > 0 && (
                    <span
                      className="absolute top-[5px] right-[5px] rounded-[2px] max-[1200px]:top-auto max-[1200px]:bottom-[3px] max-[1200px]:right-[3px] bg-bad px-1.5 text-[11px] leading-[16px] font-semibold text-paper"
                      title={`${trouble} in trouble`}
                    >
                      {trouble > 999 ? '999+' : trouble}
                    </span>
                  )}
                </a>
                {i < stations.length - 1 && <Joint text={figures ? s.joint(figures) : null} live={online === 'on'} />}
              </div>
            )
          })}
        </nav>
        <button
          type="button"
          onClick={() => setFinding(true)}
          className="flex h-[27px] w-[104px] shrink-0 items-center justify-between max-[1200px]:w-auto max-[760px]:ml-auto rounded-sm border border-line bg-sheet px-2 text-muted hover:border-muted"
        >
          <span>Find</span>
          <kbd className="font-mono text-[11px] max-[1200px]:hidden">Ctrl K</kbd>
        </button>
        <Who caller={caller} onKeys={() => setKeys(true)} />
      </header>
      {(online === 'off' || online === 'silent') && (
        <div role="status" className="shrink-0 border-b border-bad/40 bg-bad-wash px-3 py-1 text-bad">
          {down?.message ?? (online === 'off' ? 'The connection to Embrik is lost' : 'Nothing is heard from Embrik')}.{' '}
          <span className="text-ink">{down?.hint ?? 'It is tried again by itself.'} Values and states on this page are old until then.</span>
        </div>
      )}
      <Palette open={finding} onClose={() => setFinding(false)} />
      {keys && <KeyList onClose={() => setKeys(false)} />}
    </>
  )
}

function Joint({ text, live }: { text: string | null; live: boolean }) {
  return (
    <div className="relative flex min-w-3 flex-1 items-center justify-center self-stretch" aria-hidden="true">
      <div className={`absolute inset-x-0 top-1/2 border-t ${live ? 'border-line' : 'border-dashed border-bad'}`} />
      {text && <span className="relative bg-paper px-0.5 font-mono text-[11px] text-muted">{text}</span>}
    </div>
  )
}

function Who({ caller, onKeys }: { caller: Caller; onKeys(): void }) {
  const theme = useTheme()
  const initials = caller.name
    .split(/\s+/)
    .map((w) => w[0])
    .join('')
    .slice(0, 2)
    .toUpperCase()
  return (
    <Popover.Root>
      <Popover.Trigger
        className="grid size-[27px] shrink-0 place-items-center rounded-sm bg-clay-wash text-xs font-bold text-clay"
        aria-label={`${caller.name}, ${caller.role}`}
      >
        {initials}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={6}
          className="z-40 w-56 rounded-sm border border-line bg-sheet p-2 shadow-[0_6px_24px_rgb(0_0_0/0.18)]"
        >
          <div className="px-2 pt-1 pb-2">
            <div className="font-semibold">{caller.name}</div>
            <div className="text-muted">{caller.role}</div>
          </div>
          <div className="flex items-center justify-between border-t border-line px-2 py-2">
            <span>Theme</span>
            <span className="flex gap-1">
              {(['light', 'dark'] as const).map((t) => (
                <Button key={t} small kind={theme === t ? 'main' : 'plain'} onClick={() => setTheme(t)} aria-pressed={theme === t}>
                  {t}
                </Button>
              ))}
            </span>
          </div>
          {settingsPages
            .filter((p) => p.href === '/settings/account' || allows(caller.role, 'administrator'))
            .map((p) => (
              <a key={p.href} href={p.href} className="block rounded-sm px-2 py-1.5 hover:bg-well">
                {p.label}
              </a>
            ))}
          <button type="button" className="block w-full rounded-sm px-2 py-1.5 text-left hover:bg-well" onClick={onKeys}>
            Keys
          </button>
          <a href="/guide/guide.md" target="_blank" rel="noreferrer" className="block rounded-sm px-2 py-1.5 hover:bg-well">
            Guide
          </a>
          <a href="/api/openapi.json" className="block rounded-sm px-2 py-1.5 hover:bg-well">
            API description
          </a>
          <button
            type="button"
            className="block w-full rounded-sm px-2 py-1.5 text-left hover:bg-well"
            onClick={() => void call('logOut').finally(leaveAll)}
          >
            Log out
          </button>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}

/** Ctrl+K finds, `?` lists the keys, `/` filters, `g` and a letter goes to a station, F6 goes on to the next part of the page. */
function useKeys(find: () => void, list: () => void): void {
  const now = useRef({ find, list })
  now.current = { find, list }
  useEffect(() => {
    let went = 0
    const onKey = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
        e.preventDefault()
        return now.current.find()
      }
      if (e.key === 'F6') {
        e.preventDefault()
        return focusPart(e.shiftKey ? -1 : 1)
      }
      const typing = e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))
      if (typing || e.ctrlKey || e.metaKey || e.altKey) return
      if (e.key === '/') {
        const box = document.querySelector<HTMLInputElement>('[data-filter]')
        if (box) {
          e.preventDefault()
          box.focus()
        }
      } else if (e.key === '?') now.current.list()
      else if (e.key === 'g') went = Date.now()
      else if (Date.now() - went < 1200) {
        const to = stations.find((s) => s.letter === e.key)
        went = 0
        if (to) go(to.href)
      }
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [])
}

/** Catches what a view throws, so that the course stays usable. */
class Guard extends Component<{ children: ReactNode }, { error: unknown }> {
  override state = { error: null as unknown }
  static getDerivedStateFromError(error: unknown) {
    return { error }
  }
  override render() {
    if (this.state.error === null) return this.props.children
    return (
      <div className="m-auto w-[420px]">
        <ProblemNote problem={failureIn(this.state.error)} action={<Button onClick={() => location.reload()}>Load again</Button>} />
      </div>
    )
  }
}

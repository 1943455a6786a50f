import { QueryClientProvider } from '@tanstack/react-query'
import { type ComponentType, lazy, Suspense, useEffect } from 'react'
import { usePathname } from 'wouter/use-browser-location'
import type { Caller } from '~/contract/person'
import { Asking } from '~/ui/Ask'
import { Empty, Loading } from '~/ui/Notes'
import { followed, go } from './address'
import { queryClient } from './api'
import { CallerContext } from './caller'
import { Frame, Row } from './Frame'
import { placeAt } from './places'

/** The code of each page comes when the page is first wanted. */
const sources: Record<string, () => Promise<ComponentType>> = {
  '/sources': () => import('../sources/SourcesPage').then((m) => m.SourcesPage),
  '/sources/browse': () => import('../sources/BrowsePage').then((m) => m.BrowsePage),
  '/sources/registers': () => import('../sources/RegistersPage').then((m) => m.RegistersPage),
  '/sources/topics': () => import('../sources/TopicsPage').then((m) => m.TopicsPage),
  '/tags': () => import('../tags/TagsPage').then((m) => m.TagsPage),
  '/equipment': () => import('../equipment/PlantPage').then((m) => m.PlantPage),
  '/equipment/coverage': () => import('../equipment/coverage/CoveragePage').then((m) => m.CoveragePage),
  '/equipment/classes': () => import('../equipment/classes/ClassesPage').then((m) => m.ClassesPage),
  '/publications': () => import('../publications/PublicationsPage').then((m) => m.PublicationsPage),
  '/destinations': () => import('../destinations/DestinationsPage').then((m) => m.DestinationsPage),
  '/destinations/credentials': () => import('../destinations/CredentialsPage').then((m) => m.CredentialsPage),
  '/proof': () => import('../proof/WallPage').then((m) => m.WallPage),
  '/proof/wrong': () => import('../proof/WrongPage').then((m) => m.WrongPage),
  '/proof/beside': () => import('../proof/beside/BesidePage').then((m) => m.BesidePage),
  '/proof/runs': () => import('../proof/runs/ProofRunsPage').then((m) => m.ProofRunsPage),
  '/proof/hop': () => import('../proof/way/WayPage').then((m) => m.WayPage),
  '/proof/clocks': () => import('../proof/ClocksPage').then((m) => m.ClocksPage),
  '/proof/journal': () => import('../proof/journal/JournalPage').then((m) => m.JournalPage),
  '/proof/events': () => import('../proof/EventsPage').then((m) => m.EventsPage),
  '/settings': () => import('../settings/PeoplePage').then((m) => m.PeoplePage),
  '/settings/account': () => import('../settings/AccountPage').then((m) => m.AccountPage),
  '/settings/audit': () => import('../settings/AuditPage').then((m) => m.AuditPage),
}
const pages = new Map(Object.entries(sources).map(([path, load]) => [path, lazy(() => load().then((page) => ({ default: page })))]))

/** The whole interface: the shell stays while pages change in it. */
export function App({ caller }: { caller: Caller }) {
  const place = placeAt(usePathname())
  const title = place?.title ?? 'No such page'
  useEffect(() => {
    document.title = `${title} - Embrik`
  }, [title])
  useEffect(() => {
    const onClick = (e: MouseEvent) => {
      const to = followed(e)
      if (to === null) return
      e.preventDefault()
      go(to)
    }
    // What somebody points at will be wanted in a moment.
    const onPoint = (e: PointerEvent) => {
      const link = e.target instanceof Element ? e.target.closest('a') : null
      const there = link && link.origin === location.origin ? placeAt(link.pathname) : null
      if (there) void sources[there.path]?.().catch(() => undefined)
    }
    document.addEventListener('click', onClick)
    document.addEventListener('pointerover', onPoint)
    return () => {
      document.removeEventListener('click', onClick)
      document.removeEventListener('pointerover', onPoint)
    }
  }, [])
  const Page = place && pages.get(place.path)
  return (
    <QueryClientProvider client={queryClient}>
      <CallerContext value={caller}>
        <Asking>
          <Frame caller={caller} station={place?.station ?? null} page={place?.path ?? ''}>
            {Page ? (
              <Suspense
                fallback={
                  <>
                    <Row station={place.station} page={place.page} />
                    <Loading />
                  </>
                }
              >
                <Page />
              </Suspense>
            ) : (
              <main className="flex min-h-0 flex-1">
                <h1 className="sr-only">No such page</h1>
                <Empty
                  title="There is no such page"
                  action={
                    <a className="text-slate underline" href="/proof">
                      Go to the wall
                    </a>
                  }
                >
                  Perhaps it has moved: the six stations above have everything.
                </Empty>
              </main>
            )}
          </Frame>
        </Asking>
      </CallerContext>
    </QueryClientProvider>
  )
}

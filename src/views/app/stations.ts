import type { CourseFigures } from '~/contract/live'
import { countText, rateText } from '~/ui/time'

export type StationId = 'sources' | 'tags' | 'equipment' | 'publications' | 'destinations' | 'proof'

export interface Station {
  id: StationId
  label: string
  href: string
  /** After `g`. */
  letter: string
  pages: { label: string; href: string }[]
  figure(f: CourseFigures): string
  trouble(f: CourseFigures): number
  /** What passes over the joint behind it. */
  joint(f: CourseFigures): string | null
}

const share = (s: number | null) => (s === null ? '-' : s === 1 ? '100 %' : `${(Math.floor(s * 100_000) / 1000).toFixed(3)} %`)

/** Pages behind the name of whoever is logged in. */
export const settingsPages = [
  { label: 'Your account', href: '/settings/account' },
  { label: 'People and API keys', href: '/settings' },
  { label: 'Audit', href: '/settings/audit' },
]

/** The course: six stations in the order of the work. */
export const stations: Station[] = [
  {
    id: 'sources',
    label: 'Sources',
    href: '/sources',
    letter: 's',
    pages: [
      { label: 'List', href: '/sources' },
      { label: 'Browse', href: '/sources/browse' },
      { label: 'Registers', href: '/sources/registers' },
      { label: 'Topics', href: '/sources/topics' },
    ],
    figure: (f) => `${f.sourcesUp} up`,
    trouble: (f) => f.sourcesDown,
    joint: (f) => rateText(f.valuesPerS),
  },
  {
    id: 'tags',
    label: 'Tags',
    href: '/tags',
    letter: 't',
    pages: [{ label: 'Table', href: '/tags' }],
    figure: (f) => countText(f.tags),
    trouble: (f) => f.tagsBad,
    joint: () => null,
  },
  {
    id: 'equipment',
    label: 'Equipment',
    href: '/equipment',
    letter: 'e',
    pages: [
      { label: 'Plant', href: '/equipment' },
      { label: 'Coverage', href: '/equipment/coverage' },
      { label: 'Classes', href: '/equipment/classes' },
    ],
    figure: (f) => (f.members === 0 ? countText(f.equipment) : `${Math.floor((100 * f.bound) / f.members)} % filled`),
    trouble: () => 0,
    joint: () => null,
  },
  {
    id: 'publications',
    label: 'Publications',
    href: '/publications',
    letter: 'p',
    pages: [{ label: 'List', href: '/publications' }],
    figure: (f) => `${f.publicationsLive} live`,
    trouble: (f) => f.publicationsTrouble,
    joint: (f) => rateText(f.producedPerS),
  },
  {
    id: 'destinations',
    label: 'Destinations',
    href: '/destinations',
    letter: 'd',
    pages: [
      { label: 'List', href: '/destinations' },
      { label: 'Credentials', href: '/destinations/credentials' },
    ],
    figure: (f) => `${f.destinationsUp} up`,
    trouble: (f) => f.destinationsDown,
    joint: (f) => rateText(f.confirmedPerS),
  },
  {
    id: 'proof',
    label: 'Proof',
    href: '/proof',
    letter: 'r',
    pages: [
      { label: 'Wall', href: '/proof' },
      { label: 'What is wrong', href: '/proof/wrong' },
      { label: 'Side by side', href: '/proof/beside' },
      { label: 'Proof runs', href: '/proof/runs' },
      { label: 'Find the hop', href: '/proof/hop' },
      { label: 'Journal', href: '/proof/journal' },
      { label: 'Events', href: '/proof/events' },
      { label: 'Clocks', href: '/proof/clocks' },
    ],
    // A share speaks of what was seen: while a link is down that is not all.
    figure: (f) => (f.destinationsDown > 0 ? 'link down' : share(f.confirmedShare)),
    trouble: (f) => f.missing,
    joint: () => null,
  },
]

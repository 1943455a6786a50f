import { keepPreviousData, useQuery } from '@tanstack/react-query'
import type { Compared } from '~/contract/compare'
import { serverNow } from '~/ui/clock'
import { call } from '../../app/api'

/** How far back it is looked, minutes. */
export const spans = [
  { value: '5', label: '5 min' },
  { value: '10', label: '10 min' },
  { value: '60', label: '1 h' },
  { value: '360', label: '6 h' },
  { value: '1440', label: '24 h' },
] as const

export interface TagPair {
  held: string
  came: string
}

export interface BesideQuery {
  /** Null: of every publication that is live. */
  publicationId: string | null
  span: (typeof spans)[number]['value']
  /** Epoch ms; null: now. */
  until: number | null
  tags: TagPair[]
}

/** All pairs are held beside each other again so often while it is about now, and an opened one, ms. */
const ALL_MS = 20_000
const ONE_MS = 3000

/** `open`: only the pair of that key, with its curves. */
export function useCompared({ publicationId, span, until, tags }: BesideQuery, open: string | null = null) {
  return useQuery<Compared>({
    queryKey: ['sideBySide', publicationId, span, until, tags, open],
    queryFn: ({ signal }) => {
      const to = until ?? serverNow()
      const from = to - Number(span) * 60_000
      return call('sideBySide', { body: { publicationIds: publicationId === null ? [] : [publicationId], tags, from, to, open }, signal })
    },
    placeholderData: keepPreviousData,
    ...(until === null && { refetchInterval: open === null ? ALL_MS : ONE_MS }),
  })
}

import { useInfiniteQuery } from '@tanstack/react-query'
import { useEffect } from 'react'
import type { JournalPage } from '~/contract/journal'
import { call } from '../../app/api'

/** With so many found nobody needs more at once. */
const ENOUGH = 30
/** So many pages are looked through without being asked for. */
const PAGES_BY_ITSELF = 60

/** What is looked for. */
export interface JournalFilter {
  publicationId: string | null
  text: string
  /** Epoch ms; null: up to now. */
  until: number | null
}

export const queryOf = ({ publicationId, text, until }: JournalFilter) => ({
  ...(publicationId !== null && { publicationId }),
  ...(text !== '' && { text }),
  ...(until !== null && { until }),
})

/** The journal of a destination, page by page towards the past; it stands still until somebody looks again. */
export function useJournal(destinationId: string | null, filter: JournalFilter) {
  const journal = useInfiniteQuery({
    queryKey: ['lookJournal', destinationId, filter],
    enabled: destinationId !== null,
    initialPageParam: null as string | null,
    queryFn: ({ pageParam, signal }) =>
      call('lookJournal', {
        params: { id: destinationId! },
        query: { ...queryOf(filter), ...(pageParam !== null && { before: pageParam }) },
        signal,
      }),
    getNextPageParam: (last: JournalPage) => last.next,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
    refetchOnWindowFocus: false,
  })
  const { data, hasNextPage, isFetching, isError, fetchNextPage } = journal
  const pages = data?.pages ?? []
  const found = pages.reduce((sum, p) => sum + p.messages.length, 0)
  // What is seldom is looked for further back by itself, up to a bound.
  const goOn = found < ENOUGH && pages.length < PAGES_BY_ITSELF && hasNextPage && !isFetching && !isError
  useEffect(() => {
    if (goOn) void fetchNextPage()
  }, [goOn, fetchNextPage])
  return journal
}

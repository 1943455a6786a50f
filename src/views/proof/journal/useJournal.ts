import { useInfiniteQuery } from '@tanstack/react-query'
import type { JournalPage } from '~/contract/journal'
import { call } from '../../app/api'

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
  return useInfiniteQuery({
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
}

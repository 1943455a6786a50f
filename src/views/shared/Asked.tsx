import type { UseQueryResult } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { Loading } from '~/ui/Notes'
import { Failed } from './Failed'

/** What was asked for, once it is there; until then that it comes, and why it does not. */
export function Asked<T>({ of, children }: { of: UseQueryResult<T>; children(answer: T): ReactNode }) {
  return (
    <>
      {of.isPending && <Loading />}
      <Failed of={of} flush />
      {of.data !== undefined && children(of.data)}
    </>
  )
}

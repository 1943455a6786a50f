import { useState } from 'react'
import type { Caller } from '~/contract/person'
import { FilterBox } from '~/ui/Field'
import { Frame, Row } from '../app/Frame'
import { EventList } from './EventList'

export function EventsPage({ caller }: { caller: Caller }) {
  return (
    <Frame caller={caller} station="proof" page="Events">
      <Events />
    </Frame>
  )
}

function Events() {
  const [filter, setFilter] = useState('')
  return (
    <>
      <Row station="proof" page="Events">
        <FilterBox value={filter} onChange={setFilter} placeholder="filter events" />
      </Row>
      <main className="min-h-0 flex-1 overflow-auto px-4 py-2">
        <EventList limit={500} filter={filter} date />
      </main>
    </>
  )
}

import { FilterBox } from '~/ui/Field'
import { useFilterInAddress } from '../app/address'
import { Row } from '../app/Frame'
import { EventList } from './EventList'

export function EventsPage() {
  const [filter, setFilter] = useFilterInAddress()
  return (
    <>
      <Row station="proof" page="Events">
        <FilterBox value={filter} onChange={setFilter} placeholder="filter events" />
      </Row>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls and has nothing to press must be reached by keyboard (WCAG 2.1.1) */}
      <main tabIndex={0} className="min-h-0 flex-1 overflow-auto px-4 py-2">
        <EventList limit={500} filter={filter} date />
      </main>
    </>
  )
}

import { useDeferredValue } from 'react'
import type { Tag, TagChange } from '~/contract/tag'
import { editOf } from '~/core/tag/plan'
import { Heading } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { useCall } from '../../app/api'
import { DifferenceList } from '../../shared/DifferenceList'
import { liveAtOnce, onlyInside, waitsForGoLive } from './outside-words'
import type { Properties } from './useProperties'

/** What the edit changes for receivers: when it counts, and what looks different. */
export function EditOutside({ tag, properties }: { tag: Tag; properties: Properties }) {
  const { planned, changed } = properties
  const planText = useDeferredValue(planned.state === 'change' ? JSON.stringify(editOf([planned]).change![0]) : '')
  const { id: _id, ...body } = planText === '' ? { id: tag.id } : (JSON.parse(planText) as TagChange & { id: string })
  const outside = useCall('editedOutside', { params: { id: tag.id }, body, enabled: planText !== '', keepPrevious: true })
  if (planText === '') return null
  const told = outside.data
  return (
    <section aria-label="What this edit changes outside" aria-busy={outside.isFetching} className="my-2">
      <Heading>What this edit changes outside</Heading>
      {outside.error && <p className="text-bad">It could not be looked up. Nothing is saved yet.</p>}
      {told && told.publications.length === 0 && <p className="text-muted">Nothing: no publication carries this tag.</p>}
      {told && told.publications.length > 0 && (
        <>
          <p>
            {told.publications.length === 1
              ? `${told.publications[0]!.name} carries it.`
              : `${countText(told.publications.length)} publications carry it.`}{' '}
            {liveAtOnce(changed) && 'Values change at once. '}
            {waitsForGoLive(changed) && 'What is live takes it up at its next go-live.'}
          </p>
          {onlyInside(changed) && <p className="text-muted">How it is shown here does not change what is sent.</p>}
          {told.differences.length > 0 && <DifferenceList found={told.differences} />}
        </>
      )}
    </section>
  )
}

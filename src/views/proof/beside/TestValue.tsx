import { useState } from 'react'
import type { ComparePair } from '~/contract/compare'
import { serverNow } from '~/ui/clock'
import { useCall } from '../../app/api'
import { Failed } from '../../shared/Failed'
import { Followed } from '../../tags/FollowValue'
import { WriteValue } from '../../tags/WriteValue'

/** A value written to the device, and when it came out at the other end. */
export function TestValue({ pair }: { pair: ComparePair }) {
  const tags = useCall('listTags', { query: { ids: [pair.tagId] } })
  const [since, setSince] = useState<number | null>(null)
  const tag = tags.data?.[0]
  return (
    <section aria-label="Push a test value" className="mt-2">
      <Failed of={tags} flush />
      {tag && <WriteValue tag={tag} onWriting={() => setSince(serverNow())} />}
      {tag && since !== null && <Followed tag={tag} since={since} onSince={(t) => setSince(t ?? serverNow())} refetchMs={1500} />}
    </section>
  )
}

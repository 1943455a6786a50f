import { useState } from 'react'
import type { Tag } from '~/contract/tag'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { Loading } from '~/ui/Notes'
import { useCall } from '../../app/api'
import { TagPicker } from '../../equipment/bind/TagPicker'
import { Failed } from '../../shared/Failed'
import type { TagPair } from './useCompared'

const noTags: readonly Tag[] = []

/** Two tags that are to be the same: what comes back by another way stands beside what was read at first. */
export function TagPairDialog({ onPick, onClose }: { onPick(pair: TagPair): void; onClose(): void }) {
  const tags = useCall('listTags')
  const [held, setHeld] = useState<Tag | null>(null)
  const all = tags.data ?? noTags
  const others = held ? all.filter((t) => t.id !== held.id) : all
  return (
    <Modal
      open
      onClose={onClose}
      title="A tag beside another one"
      note="Where values come back by another way, as from a database that stores them or a broker that passes them on, read them as tags and hold them beside those of the device."
      width={560}
      foot={<Button onClick={onClose}>Cancel</Button>}
    >
      <Failed of={tags} flush />
      {tags.isPending && <Loading />}
      {tags.data && held === null && (
        <>
          <p className="mb-1">Which tag has it first?</p>
          <TagPicker key="held" label="what has it first" query="" tags={all} onPick={setHeld} onClose={onClose} />
        </>
      )}
      {tags.data && held && (
        <>
          <p className="mb-1 flex items-center gap-2">
            <span>
              Beside <b>{held.name}</b>: where does it come back?
            </span>
            <Button small kind="quiet" onClick={() => setHeld(null)}>
              Another one first
            </Button>
          </p>
          <TagPicker
            key="came"
            label="where it comes back"
            query={held.name}
            tags={others}
            onPick={(t) => onPick({ held: held.id, came: t.id })}
            onClose={onClose}
          />
        </>
      )}
    </Modal>
  )
}

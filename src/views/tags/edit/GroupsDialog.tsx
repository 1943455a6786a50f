import { useState } from 'react'
import { toast } from 'sonner'
import type { Group } from '~/contract/tag'
import { typedNumber } from '~/core/value/typed-number'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { countText } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../../app/api'

/** Rates with names: tags that belong to one are read at it. */
export function GroupsDialog({ onClose }: { onClose(): void }) {
  const groups = useCall('listGroups')
  const [name, setName] = useState('')
  const [rate, setRate] = useState('1000')
  const [fault, setFault] = useState<string | null>(null)
  const act = async (work: () => Promise<unknown>) => {
    try {
      await work()
      await refresh('listGroups')
      setFault(null)
      return true
    } catch (e) {
      setFault(failureIn(e).fields ? Object.values(failureIn(e).fields!).join('; ') : failureIn(e).message)
      return false
    }
  }
  return (
    <Modal
      open
      onClose={onClose}
      title="Sampling groups"
      note="A tag without a rate of its own is read at its group's, without a group at its source's"
      width={560}
    >
      <table className="w-full">
        <thead className="text-left text-xs text-muted">
          <tr>
            <th className="font-normal">Name</th>
            <th className="w-28 font-normal">Every, ms</th>
            <th className="w-20 font-normal">Tags</th>
            <th className="w-24">
              <span className="sr-only">What can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {groups.data?.map((g) => (
            <GroupRow key={`${g.id} ${g.name} ${g.sampleMs}`} group={g} act={act} />
          ))}
          <tr>
            <td className="pr-2">
              <input aria-label="New group" value={name} placeholder="fast" onChange={(e) => setName(e.target.value)} className="field w-full" />
            </td>
            <td>
              <input aria-label="Its rate, ms" value={rate} onChange={(e) => setRate(e.target.value)} className="field w-24 text-right font-mono" />
            </td>
            <td />
            <td className="text-right">
              <Button
                small
                disabled={name.trim() === ''}
                onClick={() =>
                  void act(() => call('addGroup', { body: { name, sampleMs: typedNumber(rate) ?? Number.NaN } })).then((done) => done && setName(''))
                }
              >
                Add
              </Button>
            </td>
          </tr>
        </tbody>
      </table>
      {fault && (
        <p role="alert" className="mt-2 text-bad">
          {fault}
        </p>
      )}
    </Modal>
  )
}

function GroupRow({ group, act }: { group: Group; act(work: () => Promise<unknown>): Promise<boolean> }) {
  const [name, setName] = useState(group.name)
  const [rate, setRate] = useState(String(group.sampleMs))
  const changed = name !== group.name || rate !== String(group.sampleMs)
  const remove = () =>
    act(() => call('removeGroup', { params: { id: group.id } })).then((done) => {
      if (done)
        toast(`The group ${group.name} is removed`, {
          action: { label: 'Undo', onClick: () => void act(() => call('addGroup', { body: { name: group.name, sampleMs: group.sampleMs } })) },
        })
    })
  return (
    <tr>
      <td className="py-0.5 pr-2">
        <input aria-label={`Name of ${group.name}`} value={name} onChange={(e) => setName(e.target.value)} className="field w-full" />
      </td>
      <td>
        <input
          aria-label={`Rate of ${group.name}`}
          value={rate}
          onChange={(e) => setRate(e.target.value)}
          className="field w-24 text-right font-mono"
        />
      </td>
      <td className="font-mono text-[12.5px]">{countText(group.tags)}</td>
      <td className="text-right">
        {changed ? (
          <Button
            small
            kind="main"
            onClick={() =>
              void act(() => call('changeGroup', { params: { id: group.id }, body: { name, sampleMs: typedNumber(rate) ?? Number.NaN } }))
            }
          >
            Save
          </Button>
        ) : (
          <Button small kind="quiet" disabled={group.tags > 0} title={group.tags > 0 ? 'Tags belong to it' : undefined} onClick={() => void remove()}>
            Remove
          </Button>
        )}
      </td>
    </tr>
  )
}

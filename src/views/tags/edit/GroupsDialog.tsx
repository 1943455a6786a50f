import { useState } from 'react'
import { toast } from 'sonner'
import type { Group } from '~/contract/tag'
import { typedNumber } from '~/core/value/typed-number'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { TableHead } from '~/ui/TableHead'
import { countText } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../../app/api'

const heads = [
  { key: 'name', head: 'Name' },
  { key: 'every', head: 'Every, ms', width: 112, right: true },
  { key: 'tags', head: 'Tags', width: 80, right: true },
  { key: 'acts', head: 'What can be done', quiet: true, width: 96 },
]

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
        <TableHead columns={heads} />
        <tbody>
          {groups.data?.map((g) => (
            <GroupRow key={`${g.id} ${g.name} ${g.sampleMs}`} group={g} act={act} />
          ))}
          <tr>
            <td className="px-2 py-0.5">
              <input aria-label="New group" value={name} placeholder="fast" onChange={(e) => setName(e.target.value)} className="field w-full" />
            </td>
            <td className="px-2">
              <input aria-label="Its rate, ms" value={rate} onChange={(e) => setRate(e.target.value)} className="field w-full text-right font-mono" />
            </td>
            <td />
            <td className="px-2 text-right">
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
      <td className="px-2 py-0.5">
        <input aria-label={`Name of ${group.name}`} value={name} onChange={(e) => setName(e.target.value)} className="field w-full" />
      </td>
      <td className="px-2">
        <input
          aria-label={`Rate of ${group.name}`}
          value={rate}
          onChange={(e) => setRate(e.target.value)}
          className="field w-full text-right font-mono"
        />
      </td>
      <td className="px-2 text-right font-mono text-[12.5px]">{countText(group.tags)}</td>
      <td className="px-2 text-right">
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

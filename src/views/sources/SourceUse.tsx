import { toast } from 'sonner'
import type { Source, SourceUse } from '~/contract/source'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { countText } from '~/ui/time'
import { call, refresh, useCall } from '../app/api'
import { told } from '../shared/problems'
import { useWork } from '../shared/useWork'

/** What a source is used for; undefined while it is looked up. */
export function useSourceUse(id: string): SourceUse | undefined {
  return useCall('sourceUse', { params: { id } }).data
}

const many = (n: number, one: string, more = `${one}s`) => `${countText(n)} ${n === 1 ? one : more}`

/** `57 tags, in 13 equipment and 2 publications (2 live)`. */
export function sentenceOf(use: SourceUse): string {
  const live = use.publications.filter((p) => p.live).length
  const inside = [
    use.equipment.length > 0 && many(use.equipment.length, 'equipment', 'equipment'),
    use.publications.length > 0 && `${many(use.publications.length, 'publication')} (${live} live)`,
  ].filter(Boolean)
  return `${many(use.tags, 'tag')}${inside.length > 0 ? `, in ${inside.join(' and ')}` : ''}`
}

/** Removes a source; shows first what would notice. */
export function RemoveSource({ source, onClose }: { source: Source; onClose(): void }) {
  const use = useSourceUse(source.id)
  const { busy, run } = useWork(told)
  const remove = () =>
    run(async () => {
      await call('removeSource', { params: { id: source.id } })
      await refresh('listSources', 'listCredentials')
      toast(`${source.name} is removed`)
      onClose()
    })
  const used = use !== undefined && use.tags > 0
  return (
    <Modal
      open
      onClose={onClose}
      width={520}
      title={`Remove ${source.name}?`}
      note={used ? 'It is still used' : 'Its settings and its stored password go with it'}
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="danger" busy={busy} disabled={use === undefined || used} onClick={() => void remove()}>
            Remove source
          </Button>
        </>
      }
    >
      {!use ? (
        'Looking where it is used ...'
      ) : used ? (
        <>
          <p>{sentenceOf(use)}.</p>
          {use.publications.length > 0 && <p className="mt-1 text-muted">{use.publications.map((p) => p.name).join(', ')}</p>}
          <p className="mt-2">
            Remove its tags first, or switch it off: then nothing is read and everything stays as it is.{' '}
            <a className="text-slate underline" href={`/tags?source=${source.id}`}>
              Look at its tags
            </a>
          </p>
        </>
      ) : (
        <p>Nothing uses it.</p>
      )}
    </Modal>
  )
}

import { toast } from 'sonner'
import type { Tag } from '~/contract/tag'
import { formatModbusAddress, parseModbusAddress } from '~/core/source/modbus-address'
import { formatValue } from '~/core/value/format'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { Fact, ProblemNote } from '~/ui/Notes'
import { call, failureIn, refresh } from '../../app/api'
import { useLiveValue } from '../../app/live/live'
import { useWork } from '../../shared/useWork'
import type { ModbusSource } from './useBench'

/** A way to read registers that somebody chose. */
export interface Taken {
  address: string
  dataType: 'number' | 'boolean'
  /** What it gave when it was chosen. */
  value: string
}

interface Props {
  taken: Taken
  /** The tag that is to be read so; null: a new one. */
  tag: Tag | null
  name: string
  range: Tag['range']
  source: ModbusSource
  onDone(tagId: string | null): void
}

/** Asks before a tag is read otherwise, or a new one is added: old and new way side by side. */
export function TakeDialog({ taken, tag, name, range, source, onDone }: Props) {
  const { busy, problem, run } = useWork()
  const { notation } = source.settings
  const act = () =>
    run(async () => {
      if (tag) await readSo(tag, taken.address, tag.address)
      const id = tag?.id ?? (await add(name, source.id, taken, range))
      onDone(id)
    })
  return (
    <Modal
      open
      onClose={() => onDone(null)}
      title={tag ? `Read ${tag.name} otherwise` : `Add ${name}`}
      note={tag ? 'Whatever uses the tag gets the new value at once.' : `Of ${source.name}`}
      width={520}
      foot={
        <>
          <Button onClick={() => onDone(null)}>Leave as it is</Button>
          <Button kind="main" autoFocus busy={busy} onClick={() => void act()}>
            {tag ? 'Read it so' : 'Add tag'}
          </Button>
        </>
      }
    >
      {problem && <ProblemNote problem={problem} />}
      {tag && <Before tag={tag} notation={notation} />}
      <Fact name={tag ? 'New way' : 'Read as'}>{shown(taken.address, notation)}</Fact>
      <Fact name={tag ? 'gives' : 'Gives'}>
        {taken.value} {tag?.unit}
      </Fact>
    </Modal>
  )
}

function Before({ tag, notation }: { tag: Tag; notation: ModbusSource['settings']['notation'] }) {
  const v = useLiveValue(tag.handle)
  return (
    <>
      <Fact name="Until now">{shown(tag.address, notation)}</Fact>
      <Fact name="gives">
        {v ? formatValue(v[1], tag) : 'nothing yet'} {v && tag.unit}
      </Fact>
    </>
  )
}

function shown(address: string, notation: ModbusSource['settings']['notation']): string {
  const parsed = parseModbusAddress(address)
  return 'problem' in parsed ? address : formatModbusAddress(parsed, notation)
}

async function readSo(tag: Tag, address: string, undo: string | null): Promise<void> {
  await call('changeTag', { params: { id: tag.id }, body: { address } })
  await refresh('listTags')
  const back = () => readSo(tag, undo!, null).catch((e: unknown) => void toast.error(failureIn(e).message, { description: failureIn(e).hint }))
  toast.success(`${tag.name} is read as ${address}`, { ...(undo !== null && { action: { label: 'Undo', onClick: () => void back() } }) })
}

async function add(name: string, sourceId: string, { address, dataType }: Taken, range: Tag['range']): Promise<string> {
  const [made] = await call('addTags', { body: { tags: [{ name: name.trim(), sourceId, address, dataType, range }] } })
  await refresh('listTags', 'listSources')
  toast.success(`${made!.name} is added`)
  return made!.id
}

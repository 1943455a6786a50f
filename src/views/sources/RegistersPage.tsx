import type { Tag } from '~/contract/tag'
import { Loading, ProblemNote } from '~/ui/Notes'
import { Middle, ThreeParts } from '~/ui/Parts'
import { useTextInAddress } from '../app/address'
import { useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { Failed } from '../shared/Failed'
import { EmptyStation } from '../shared/Onward'
import { Place } from './registers/Place'
import { ReadAs } from './registers/ReadAs'
import { RegisterTable } from './registers/RegisterTable'
import { type ModbusSource, useBench } from './registers/useBench'
import { useRegisters } from './registers/useRegisters'

export function RegistersPage() {
  const sources = useCall('listSources')
  const [sourceId, setSourceId] = useTextInAddress('source')
  const list = sources.data?.filter((s) => s.kind === 'modbus') ?? []
  const source = list.find((s) => s.id === sourceId) ?? list[0]
  const tags = useCall('listTags', { query: { source: source?.id }, enabled: source !== undefined })
  if (!sources.data || (source && !tags.data))
    return (
      <>
        <Row station="sources" page="Registers" />
        <Middle>{sources.error || tags.error ? <Failed of={[sources, tags]} /> : <Loading />}</Middle>
      </>
    )
  if (!source)
    return (
      <>
        <Row station="sources" page="Registers" />
        <Middle>
          <EmptyStation
            needs="engineer"
            title="No Modbus source yet"
            action={
              <a className="text-slate underline" href="/sources?add">
                Add a source
              </a>
            }
          >
            The register bench shows raw registers beside every way to read them.
          </EmptyStation>
        </Middle>
      </>
    )
  return <RegisterBench key={source.id} source={source} sources={list} tags={tags.data ?? none} onSource={setSourceId} />
}

const none: readonly Tag[] = []

interface Props {
  source: ModbusSource
  sources: ModbusSource[]
  /** Those of the source. */
  tags: readonly Tag[]
  onSource(id: string): void
}

function RegisterBench({ source, sources, tags, onSource }: Props) {
  const mayEdit = useMay('engineer')
  const bench = useBench(source, tags)
  const { query, valid } = bench
  const looks = useRegisters(valid && mayEdit ? source.id : undefined, query)
  return (
    <>
      <Row station="sources" page="Registers" />
      <ThreeParts
        id="registers"
        peekWidth={430}
        left={<Place bench={bench} sources={sources} onSource={onSource} looks={looks} mayEdit={mayEdit} />}
        peek={<ReadAs bench={bench} looks={looks} mine={tags} mayEdit={mayEdit} />}
      >
        {!mayEdit ? (
          <p className="p-4 text-muted">To look into a device needs the role engineer. What its tags show stands under Tags.</p>
        ) : looks.look ? (
          <>
            {/* What was read last stays where it is; why it is old stands at the foot. */}
            <div className={`min-h-0 flex-1 overflow-auto ${looks.old ? 'italic opacity-60' : ''}`}>
              <RegisterTable
                query={query}
                notation={bench.notation}
                words={looks.look.words}
                before={looks.before?.words ?? []}
                at={bench.at}
                tags={tags}
                bit={bench.bit}
                onPick={bench.pick}
              />
            </div>
            {looks.problem && (
              <div className="border-t border-line p-2">
                <ProblemNote problem={looks.problem} />
              </div>
            )}
          </>
        ) : looks.problem ? (
          <div className="p-4">
            <ProblemNote problem={looks.problem} />
          </div>
        ) : valid ? (
          <Loading rows={12} />
        ) : (
          <p className="p-4 text-muted">Correct the numbers on the left.</p>
        )}
      </ThreeParts>
    </>
  )
}

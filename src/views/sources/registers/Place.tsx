import type { Area } from '~/core/source/modbus-address'
import { formatPlace } from '~/core/source/modbus-address'
import { SelectField, TextField } from '~/ui/Field'
import { Heading } from '~/ui/Notes'
import { Age, durationText } from '~/ui/time'
import { SourceSelect } from '../SourceSelect'
import type { Bench, ModbusSource } from './useBench'
import type { Looks } from './useRegisters'

interface Props {
  bench: Bench
  sources: readonly ModbusSource[]
  onSource(id: string): void
  looks: Looks
  mayEdit: boolean
}

/** Where to look: unit, area, from where and how many; and how the device answers. */
export function Place({ bench, sources, onSource, looks, mayEdit }: Props) {
  const { query, wrong } = bench
  return (
    <div className="px-3 py-1 [&>div]:grid-cols-1">
      <SourceSelect sources={sources} value={bench.source.id} onChange={onSource} />
      <TextField label="Unit id" mono value={bench.unit} error={wrong.unit} onChange={(e) => bench.setUnit(e.target.value)} />
      <SelectField label="Area" value={bench.area} onChange={(e) => bench.setArea(e.target.value as Area)}>
        <option value="holding">holding registers</option>
        <option value="input">input registers</option>
        <option value="coil">coils</option>
        <option value="discrete">discrete inputs</option>
      </SelectField>
      <TextField
        label="From"
        mono
        value={bench.from}
        error={wrong.from}
        help={`${formatPlace(query.area, query.offset)}, ${formatPlace(query.area, query.offset, 'number')} or ${formatPlace(query.area, query.offset, 'reference')}`}
        onChange={(e) => bench.setFrom(e.target.value)}
      />
      <TextField label="How many" mono value={bench.count} error={wrong.count} onChange={(e) => bench.setCount(e.target.value)} />
      <Heading level={2}>Now</Heading>
      <div className="text-muted" data-look={looks.problem ? 'problem' : looks.old ? 'old' : looks.look ? 'fine' : 'none'}>
        {answer(looks, mayEdit)}
        {looks.look && (
          <div>
            read <Age at={looks.look.at} /> ago
          </div>
        )}
      </div>
    </div>
  )
}

function answer({ look, problem, old }: Looks, mayEdit: boolean): string {
  if (!mayEdit) return 'Needs the role engineer'
  if (problem) return 'no answer'
  if (!look) return 'Asking ...'
  return old ? 'nothing is heard' : `answers after ${durationText(look.ms)}`
}

import { useRef, useState } from 'react'
import type { Tag } from '~/contract/tag'
import { formatModbusAddress, formatPlace, parseModbusAddress } from '~/core/source/modbus-address'
import { formatValue } from '~/core/value/format'
import { qualityText } from '~/core/value/quality'
import { looksMeasured, type RegisterType, registerTypes } from '~/core/value/register'
import { typedNumber } from '~/core/value/typed-number'
import { Button } from '~/ui/Button'
import { SelectField, TextField } from '~/ui/Field'
import { useLiveValue, useWatch } from '../../app/live/live'
import { Decodings } from './Decodings'
import { TakeDialog, type Taken } from './TakeDialog'
import type { Bench, ModbusSource } from './useBench'
import type { Looks } from './useRegisters'

/** For which tag, what is expected of it, and every way to read the registers that are picked. */
export function ReadAs({ bench, looks, mine, mayEdit }: { bench: Bench; looks: Looks; mine: readonly Tag[]; mayEdit: boolean }) {
  const { tag, own, query, at, bit, bits, area, notation } = bench
  const [factor, setFactor] = useState('')
  const [low, setLow] = useState('')
  const [high, setHigh] = useState('')
  const [name, setName] = useState('')
  const [missing, setMissing] = useState(false)
  const [taken, setTaken] = useState<Taken | null>(null)
  const nameField = useRef<HTMLDivElement>(null)
  const [lowest, highest] = [typedNumber(low), typedNumber(high)]
  const range = lowest !== null && highest !== null && lowest < highest ? { low: lowest, high: highest } : (tag?.range ?? null)
  const times = typedNumber(factor) || (own?.factor ?? 1)
  const words = looks.look?.words ?? []

  const choose = (next: Taken) => {
    if (tag || name.trim() !== '') return setTaken(next)
    setMissing(true)
    nameField.current?.querySelector('input')?.focus()
  }
  const take = (type: RegisterType, order: string, value: string) =>
    choose({
      address: formatModbusAddress({
        unit: query.unit,
        area,
        offset: at,
        type,
        bit: -1,
        words: registerTypes[type],
        length: 0,
        order,
        factor: times,
      }),
      dataType: 'number',
      value,
    })
  const state = ((words[at - query.offset] ?? 0) >>> (bits ? 0 : (bit ?? 0))) & 1
  const takeBit = () =>
    choose({
      address: formatModbusAddress({
        unit: query.unit,
        area,
        offset: at,
        type: 'bit',
        bit: bits ? -1 : bit!,
        words: 1,
        length: 0,
        order: '',
        factor: 1,
      }),
      dataType: 'boolean',
      value: state ? 'true' : 'false',
    })
  const elsewhere = tag && own && (own.offset !== at || own.area !== area || own.unit !== query.unit)
  return (
    <>
      <SelectField label="For the tag" value={tag?.id ?? ''} onChange={(e) => bench.goTo(e.target.value)}>
        <option value="">a new one</option>
        {mine.map((t) => (
          <option key={t.id} value={t.id}>
            {t.name}
          </option>
        ))}
      </SelectField>
      {tag ? (
        <TagNow tag={tag} notation={notation} />
      ) : (
        <div ref={nameField}>
          <TextField
            label="Its name"
            value={name}
            placeholder="Power Meter 4/power"
            error={missing && name.trim() === '' ? 'Name the new tag first' : undefined}
            onChange={(e) => setName(e.target.value)}
          />
        </div>
      )}
      <div className="grid grid-cols-3 gap-2 py-1 text-xs text-muted">
        <Small label="expected from" value={low} hint={tag?.range ? String(tag.range.low) : ''} onChange={setLow} />
        <Small label="to" value={high} hint={tag?.range ? String(tag.range.high) : ''} onChange={setHigh} />
        <Small label="factor" value={factor} hint={String(own?.factor ?? 1)} onChange={setFactor} />
      </div>
      {bit !== null && (
        <div className="my-1 flex items-center justify-between gap-2 rounded-sm border border-line bg-paper px-2.5 py-1.5">
          <span>
            {bits ? formatPlace(area, at, notation) : `Bit ${bit} of ${formatPlace(area, at, notation)}`}{' '}
            <span className="font-mono font-semibold">{state}</span>
          </span>
          <Button small kind="main" disabled={!mayEdit} onClick={takeBit}>
            Take this bit
          </Button>
        </div>
      )}
      {words.length > 0 && !bits ? (
        <div className={looks.old ? 'italic opacity-60' : ''}>
          <Decodings
            words={words}
            at={at - query.offset}
            range={range}
            factor={times}
            current={own && own.unit === query.unit && own.area === area && own.offset === at ? `${own.type} ${own.order}` : null}
            onTake={mayEdit ? take : null}
          />
        </div>
      ) : (
        <p className="py-2 text-muted">{bits ? 'These are single bits: pick one.' : 'Decodings stand here as soon as registers come.'}</p>
      )}
      {elsewhere && (
        <Button small onClick={() => bench.goTo(tag.id)}>
          Back to where {tag.name} is read
        </Button>
      )}
      {taken && (
        <TakeDialog
          taken={taken}
          tag={tag}
          name={name}
          range={range}
          source={bench.source}
          onDone={(id) => {
            setTaken(null)
            if (id !== null) bench.forTag(id)
          }}
        />
      )}
    </>
  )
}

function Small({ label, value, hint, onChange }: { label: string; value: string; hint: string; onChange(v: string): void }) {
  return (
    <label className="block">
      {label}
      <input
        inputMode="decimal"
        value={value}
        placeholder={hint}
        onChange={(e) => onChange(e.target.value)}
        aria-invalid={value !== '' && typedNumber(value) === null}
        className="field mt-0.5 w-full font-mono text-[12px] text-ink aria-invalid:border-bad"
      />
    </label>
  )
}

/** What the tag shows at this moment, as it is read now. */
function TagNow({ tag, notation }: { tag: Tag; notation: ModbusSource['settings']['notation'] }) {
  useWatch({ tags: [tag.handle] })
  const v = useLiveValue(tag.handle)
  const parsed = parseModbusAddress(tag.address)
  // The same rule as marks the decodings: a wrong order often gives what is all but zero, inside of most ranges.
  const outside = tag.range && (typeof v?.[1] === 'number' || typeof v?.[1] === 'bigint') && !looksMeasured(Number(v[1]), tag.range)
  return (
    <div className="my-1 rounded-sm border border-line bg-paper px-2.5 py-1.5" data-now>
      <div className="flex items-baseline gap-2">
        <span data-live className={`font-mono text-lg font-semibold ${outside ? 'text-bad' : ''}`}>
          {v ? formatValue(v[1], tag) : '-'}
        </span>
        <span className="text-muted">{tag.unit}</span>
        <span className="ml-auto text-muted">{v ? qualityText(v[2]) : ''}</span>
      </div>
      <div className="font-mono text-xs text-muted">{'problem' in parsed ? tag.address : formatModbusAddress(parsed, notation)}</div>
      {/* Its place is kept: what stands under it does not move when a value comes and goes. */}
      {tag.range && (
        <div className={`min-h-[21px] ${outside ? 'text-bad' : 'text-muted'}`}>
          {outside
            ? `Outside of what is expected, ${tag.range.low} to ${tag.range.high} ${tag.unit}: is it read in the right order?`
            : `Expected is ${tag.range.low} to ${tag.range.high} ${tag.unit}`}
        </div>
      )}
    </div>
  )
}

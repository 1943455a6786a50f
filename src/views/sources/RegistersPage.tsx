import { useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Source } from '~/contract/source'
import type { RegisterQuery } from '~/contract/sources/modbus'
import type { Tag } from '~/contract/tag'
import { type Area, formatModbusAddress, formatPlace, parseModbusAddress } from '~/core/source/modbus-address'
import { formatValue } from '~/core/value/format'
import { qualityText } from '~/core/value/quality'
import { looksMeasured, type RegisterType, registerTypes } from '~/core/value/register'
import { Button } from '~/ui/Button'
import { SelectField, TextField } from '~/ui/Field'
import { Empty, Heading, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { durationText } from '~/ui/time'
import { setParams } from '../app/address'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { useLiveValue, useWatch } from '../app/live/live'
import { Decodings } from './Decodings'
import { RegisterTable } from './RegisterTable'
import { SourceSelect } from './SourceSelect'
import { useRegisters } from './useRegisters'

type ModbusSource = Extract<Source, { kind: 'modbus' }>

export function RegistersPage() {
  const sources = useCall('listSources')
  const tags = useCall('listTags')
  if (sources.error) return <ProblemNote problem={failureIn(sources.error)} />
  if (!sources.data || !tags.data) return <Loading />
  const list = sources.data.filter((s) => s.kind === 'modbus')
  if (list.length === 0)
    return (
      <>
        <Row station="sources" page="Registers" />
        <Empty
          title="No Modbus source yet"
          action={
            <a className="text-slate underline" href="/sources?add">
              Add a source
            </a>
          }
        >
          The register bench shows raw registers beside every way to read them.
        </Empty>
      </>
    )
  return <Loaded sources={list} tags={tags.data} />
}

const whole = (text: string, low: number, high: number): number | null => {
  const n = Number(text)
  return text.trim() !== '' && Number.isInteger(n) && n >= low && n <= high ? n : null
}

function Loaded({ sources, tags }: { sources: ModbusSource[]; tags: readonly Tag[] }) {
  const mayEdit = useMay('engineer')
  const begun = useMemo(() => {
    const params = new URLSearchParams(location.search)
    const tag = tags.find((t) => t.id === params.get('tag'))
    const address = tag && parseModbusAddress(tag.address)
    const known = address && !('problem' in address) ? address : null
    return {
      tag: known ? tag! : null,
      source: (known && sources.find((s) => s.id === tag!.sourceId)) ?? sources.find((s) => s.id === params.get('source')) ?? sources[0]!,
      unit: params.get('unit') ?? known?.unit,
      area: (['coil', 'discrete', 'input', 'holding'] as const).find((a) => a === params.get('area')) ?? known?.area,
      // With some room before it, so that one sees the neighbours.
      from: params.get('from') ?? (known ? Math.max(0, known.offset - 4) : 0),
      at: Number(params.get('at') ?? known?.offset) || 0,
      count: params.get('count') ?? '20',
    }
  }, [tags, sources])
  const [source, setSource] = useState(begun.source)
  const [tagId, setTagId] = useState(begun.tag?.id ?? '')
  const [unit, setUnit] = useState(String(begun.unit ?? source.settings.probeUnit))
  const [area, setArea] = useState<Area>(begun.area ?? 'holding')
  const [from, setFrom] = useState(String(begun.from))
  const [count, setCount] = useState(begun.count)
  const [picked, setAt] = useState(begun.at)
  const [bit, setBit] = useState<number | null>(null)
  const tag = tags.find((t) => t.id === tagId) ?? null
  const parsed = tag ? parseModbusAddress(tag.address) : null
  const own = parsed && !('problem' in parsed) ? parsed : null
  const [factor, setFactor] = useState('')
  const [low, setLow] = useState('')
  const [high, setHigh] = useState('')
  const [name, setName] = useState('')

  const wrong = {
    unit: whole(unit, 0, 255) === null ? 'From 0 to 255' : undefined,
    from: whole(from, 0, 65_535) === null ? 'From 0 to 65535' : undefined,
    count: whole(count, 1, 120) === null ? 'From 1 to 120' : undefined,
  }
  const query: RegisterQuery = {
    unit: whole(unit, 0, 255) ?? 0,
    area,
    offset: whole(from, 0, 65_535) ?? 0,
    count: Math.min(whole(count, 1, 120) ?? 1, 65_536 - (whole(from, 0, 65_535) ?? 0)),
  }
  useEffect(() => {
    const timer = setTimeout(() => setParams({ source: source.id, unit, area, from, count, at: String(picked), tag: tagId || null }), 200)
    return () => clearTimeout(timer)
  }, [source.id, unit, area, from, count, picked, tagId])
  // What was picked may lie outside of what is looked at now.
  const at = picked >= query.offset && picked < query.offset + query.count ? picked : query.offset
  const valid = !wrong.unit && !wrong.from && !wrong.count
  const { look, before } = useRegisters(valid && mayEdit ? source.id : undefined, query)
  const range = low !== '' && high !== '' && Number(low) < Number(high) ? { low: Number(low), high: Number(high) } : (tag?.range ?? null)
  const times = factor !== '' && Number(factor) !== 0 && Number.isFinite(Number(factor)) ? Number(factor) : (own?.factor ?? 1)
  const { notation } = source.settings
  const mine = useMemo(() => tags.filter((t) => t.sourceId === source.id), [tags, source])
  const bits = area === 'coil' || area === 'discrete'

  const goTo = (id: string) => {
    setTagId(id)
    const next = tags.find((t) => t.id === id)
    const a = next && parseModbusAddress(next.address)
    if (!a || 'problem' in a) return
    setUnit(String(a.unit))
    setArea(a.area)
    setAt(a.offset)
    setFrom(String(Math.max(0, a.offset - 4)))
    setBit(a.type === 'bit' ? Math.max(0, a.bit) : null)
    setFactor('')
  }
  const save = async (address: string, undo: string | null) => {
    if (!tag) return
    try {
      await call('changeTag', { params: { id: tag.id }, body: { address } })
      await refresh('listTags')
      toast.success(`${tag.name} is read as ${address}`, {
        ...(undo && { action: { label: 'Undo', onClick: () => void save(undo, null) } }),
      })
    } catch (e) {
      toast.error(failureIn(e).message, { description: failureIn(e).hint })
    }
  }
  const addressOf = (type: RegisterType, order: string) =>
    formatModbusAddress({ unit: query.unit, area, offset: at, type, bit: -1, words: registerTypes[type], length: 0, order, factor: times })
  const add = async (address: string, dataType: Tag['dataType']) => {
    try {
      const [made] = await call('addTags', { body: { tags: [{ name: name.trim(), sourceId: source.id, address, dataType, range }] } })
      await refresh('listTags', 'listSources')
      setTagId(made!.id)
      toast.success(`${made!.name} is added`)
    } catch (e) {
      toast.error(failureIn(e).message, { description: failureIn(e).hint })
    }
  }
  const take = (type: RegisterType, order: string) => {
    const address = addressOf(type, order)
    if (tag) void save(address, tag.address)
    else if (name.trim() === '') toast('Give the new tag a name first, on the right above')
    else void add(address, 'number')
  }
  const bitAddress =
    bit === null
      ? null
      : formatModbusAddress({ unit: query.unit, area, offset: at, type: 'bit', bit: bits ? -1 : bit, words: 1, length: 0, order: '', factor: 1 })
  const takeBit = () => {
    if (bitAddress === null) return
    if (tag) void save(bitAddress, tag.address)
    else if (name.trim() === '') toast('Give the new tag a name first, on the right above')
    else void add(bitAddress, 'boolean')
  }
  const pick = (offset: number, one: number | null) => {
    setAt(offset)
    setBit(one)
  }

  return (
    <>
      <Row station="sources" page="Registers" />
      <ThreeParts
        id="registers"
        peekWidth={430}
        left={
          <div className="px-3 py-1 [&>div]:grid-cols-1">
            <SourceSelect sources={sources} value={source.id} onChange={(id) => setSource(sources.find((s) => s.id === id) ?? source)} />
            <TextField label="Unit id" mono value={unit} error={wrong.unit} onChange={(e) => setUnit(e.target.value)} />
            <SelectField label="Area" value={area} onChange={(e) => setArea(e.target.value as Area)}>
              <option value="holding">holding registers</option>
              <option value="input">input registers</option>
              <option value="coil">coils</option>
              <option value="discrete">discrete inputs</option>
            </SelectField>
            <TextField
              label="From"
              mono
              value={from}
              error={wrong.from}
              help={`counted from 0: ${formatPlace(area, query.offset, notation)}`}
              onChange={(e) => setFrom(e.target.value)}
            />
            <TextField label="How many" mono value={count} error={wrong.count} onChange={(e) => setCount(e.target.value)} />
            <Heading level={2}>Now</Heading>
            <div className="text-muted" data-look={look ? (look.problem ? 'problem' : 'fine') : 'none'}>
              {!mayEdit ? 'Needs the role engineer' : !look ? 'Asking ...' : look.problem ? 'no answer' : `answers after ${durationText(look.ms)}`}
            </div>
          </div>
        }
        peek={
          <>
            <SelectField label="For the tag" value={tagId} onChange={(e) => goTo(e.target.value)}>
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
              <TextField label="Its name" value={name} placeholder="Power Meter 4/power" onChange={(e) => setName(e.target.value)} />
            )}
            <div className="grid grid-cols-3 gap-2 py-1 text-xs text-muted">
              <Small label="expected from" value={low} hint={tag?.range ? String(tag.range.low) : ''} onChange={setLow} />
              <Small label="to" value={high} hint={tag?.range ? String(tag.range.high) : ''} onChange={setHigh} />
              <Small label="factor" value={factor} hint={String(own?.factor ?? 1)} onChange={setFactor} />
            </div>
            {bit !== null && bitAddress !== null && (
              <div className="my-1 flex items-center justify-between gap-2 rounded-sm border border-line bg-paper px-2.5 py-1.5">
                <span>
                  {bits ? formatPlace(area, at, notation) : `Bit ${bit} of ${formatPlace(area, at, notation)}`}{' '}
                  <span className="font-mono font-semibold">{((look?.words[at - query.offset] ?? 0) >>> (bits ? 0 : bit)) & 1}</span>
                </span>
                <Button small kind="main" disabled={!mayEdit} onClick={takeBit}>
                  Take this bit
                </Button>
              </div>
            )}
            {look && look.words.length > 0 && !bits ? (
              <Decodings
                words={look.words}
                at={at - query.offset}
                range={range}
                factor={times}
                current={own && own.unit === query.unit && own.area === area && own.offset === at ? `${own.type} ${own.order}` : null}
                onTake={mayEdit ? take : null}
              />
            ) : (
              <p className="py-2 text-muted">{bits ? 'These are single bits: pick one.' : 'Decodings stand here as soon as registers come.'}</p>
            )}
            {tag && own && (own.offset !== at || own.area !== area || own.unit !== query.unit) && (
              <Button small onClick={() => goTo(tag.id)}>
                Back to where {tag.name} is read
              </Button>
            )}
          </>
        }
      >
        {look?.problem ? (
          <div className="p-4">
            <ProblemNote problem={{ message: look.problem, hint: look.hint ?? '' }} />
          </div>
        ) : !look ? (
          valid ? (
            <Loading rows={12} />
          ) : (
            <p className="p-4 text-muted">Correct the numbers on the left.</p>
          )
        ) : (
          <RegisterTable
            query={query}
            notation={notation}
            words={look.words}
            before={before?.words ?? []}
            at={at}
            tags={mine}
            bit={bit}
            onPick={pick}
          />
        )}
      </ThreeParts>
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
        aria-invalid={value !== '' && !Number.isFinite(Number(value))}
        className="mt-0.5 h-6 w-full rounded-sm border border-line bg-sheet px-1.5 font-mono text-[12px] text-ink aria-invalid:border-bad"
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
        <span className={`font-mono text-lg font-semibold ${outside ? 'text-bad' : ''}`}>{v ? formatValue(v[1], tag) : '-'}</span>
        <span className="text-muted">{tag.unit}</span>
        <span className="ml-auto text-muted">{v ? qualityText(v[2]) : ''}</span>
      </div>
      <div className="font-mono text-xs text-muted">{'problem' in parsed ? tag.address : formatModbusAddress(parsed, notation)}</div>
      {outside && (
        <div className="text-bad">
          Outside of what is expected, {tag.range!.low} to {tag.range!.high} {tag.unit}: is it read in the right order?
        </div>
      )}
    </div>
  )
}

import { useEffect, useMemo, useState } from 'react'
import type { Source } from '~/contract/source'
import type { RegisterQuery } from '~/contract/sources/modbus'
import type { Tag } from '~/contract/tag'
import { type Area, type ModbusAddress, parseModbusAddress, readPlace } from '~/core/source/modbus-address'
import { setParams } from '../../app/address'

export type ModbusSource = Extract<Source, { kind: 'modbus' }>

const whole = (text: string, low: number, high: number): number | null => {
  const n = Number(text)
  return text.trim() !== '' && Number.isInteger(n) && n >= low && n <= high ? n : null
}
/** So many registers before the one that is looked for show its neighbours. */
const BEFORE = 4

const addressOf = (tag: Tag | undefined | null): ModbusAddress | null => {
  const parsed = tag ? parseModbusAddress(tag.address) : null
  return parsed && !('problem' in parsed) ? parsed : null
}

/** What the address of the page says, or the tag that it names. */
function begin(source: ModbusSource, tags: readonly Tag[]) {
  const params = new URLSearchParams(location.search)
  const named = tags.find((t) => t.id === params.get('tag'))
  const known = addressOf(named)
  const tag = known ? named! : null
  return {
    tag,
    unit: params.get('unit') ?? String(known?.unit ?? source.settings.probeUnit),
    area: (['coil', 'discrete', 'input', 'holding'] as const).find((a) => a === params.get('area')) ?? known?.area ?? 'holding',
    from: params.get('from') ?? (known ? String(Math.max(0, known.offset - BEFORE)) : '0'),
    at: Number(params.get('at') ?? known?.offset) || 0,
    count: params.get('count') ?? '20',
  }
}

/** Where the bench looks, what is picked there, and the tag that it is for; all of it stands in the address. */
export function useBench(source: ModbusSource, tags: readonly Tag[]) {
  // Only what the page began with: afterwards the state says it.
  // biome-ignore lint/correctness/useExhaustiveDependencies: as above
  const begun = useMemo(() => begin(source, tags), [])
  const [tagId, setTagId] = useState(begun.tag?.id ?? '')
  const [unit, setUnit] = useState(begun.unit)
  const [area, setArea] = useState<Area>(begun.area)
  const [from, setFrom] = useState(begun.from)
  const [count, setCount] = useState(begun.count)
  const [picked, setPicked] = useState(begun.at)
  const [bit, setBit] = useState<number | null>(null)
  const tag = tags.find((t) => t.id === tagId) ?? null
  const { notation } = source.settings
  const place = readPlace(from, notation)
  const wrong = {
    unit: whole(unit, 0, 255) === null ? 'From 0 to 255' : undefined,
    from: 'problem' in place ? place.problem : undefined,
    count: whole(count, 1, 120) === null ? 'From 1 to 120' : undefined,
  }
  const offset = 'problem' in place ? 0 : place.offset
  const query: RegisterQuery = {
    unit: whole(unit, 0, 255) ?? 0,
    area,
    offset,
    count: Math.min(whole(count, 1, 120) ?? 1, 65_536 - offset),
  }
  useEffect(() => {
    const timer = setTimeout(() => setParams({ source: source.id, unit, area, from, count, at: String(picked), tag: tagId || null }), 200)
    return () => clearTimeout(timer)
  }, [source.id, unit, area, from, count, picked, tagId])
  return {
    source,
    tag,
    own: addressOf(tag),
    unit,
    setUnit,
    area,
    setArea,
    from,
    /** What the text says of unit and area is taken over. */
    setFrom: (text: string) => {
      setFrom(text)
      const typed = readPlace(text, notation)
      if ('problem' in typed) return
      if (typed.unit !== null) setUnit(String(typed.unit))
      if (typed.area !== null) setArea(typed.area)
      setPicked(typed.offset)
    },
    count,
    setCount,
    wrong,
    valid: !wrong.unit && !wrong.from && !wrong.count,
    query,
    notation,
    /** The register that is looked at; what was picked may lie outside of what shows now. */
    at: picked >= query.offset && picked < query.offset + query.count ? picked : query.offset,
    bit,
    bits: area === 'coil' || area === 'discrete',
    pick: (register: number, one: number | null) => {
      setPicked(register)
      setBit(one)
    },
    /** Goes to where a tag is read; none: what is read becomes a new one. */
    goTo: (id: string) => {
      setTagId(id)
      const address = addressOf(tags.find((t) => t.id === id))
      if (!address) return
      setUnit(String(address.unit))
      setArea(address.area)
      setPicked(address.offset)
      setFrom(String(readableFrom(address.offset, notation)))
      setBit(address.type === 'bit' ? Math.max(0, address.bit) : null)
    },
    forTag: setTagId,
  }
}

/** A bare number in the source's notation that begins some registers before. */
const readableFrom = (offset: number, notation: ModbusSource['settings']['notation']) =>
  notation === 'offset'
    ? Math.max(0, offset - BEFORE)
    : notation === 'number'
      ? Math.max(0, offset - BEFORE) + 1
      : `0x${Math.max(0, offset - BEFORE).toString(16)}`

export type Bench = ReturnType<typeof useBench>

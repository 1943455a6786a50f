import type { PlanEquipment } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import type { Scalar } from '../value/deadband'
import { chooser, markOf, newest, Take } from './choose'
import { isObject, readingOf } from './json-reading'
import { OctetError, Writer } from './octets'
import type { Decoded, Decoder, Encoder, Scope } from './shape'
import { jsonTime, readTime } from './text'
import { anyTaken, atKey, listsOf, type Node, treeOf } from './tree'

type How = Omit<Settings<'cbor'>, 'kind' | 'compression'>

/** How a format writes what a tree is made of. */
export interface TreeFormat {
  map(w: Writer, count: number): void
  list(w: Writer, count: number): void
  text(w: Writer, text: string): void
  scalar(w: Writer, value: Scalar, whole: boolean): void
  /** The time of the message, in the form that is asked for. */
  time(w: Writer, at: number, how: How, text: string): void
}

/** Encoder of binary formats that hold the same tree as nested JSON: `at`, the members, and `quality` for those not good. */
export function treeEncoder(format: TreeFormat, how: How, scope: Scope): Encoder {
  const one = scope.equipment[0]!
  const { members } = one
  const octets = (text: string) => {
    const w = new Writer(64)
    format.text(w, text)
    return w.take()
  }
  const { take, choose } = chooser(how, members.length, listsOf(members))
  const root = treeOf(members)
  const whole = members.map((m) => m.dataType === 'integer')
  const names = members.map((m) => octets(m.key))
  const [atName, qualityName] = [octets('at'), octets('quality')]
  const time = jsonTime(how.time, how.zone)
  const w = new Writer()
  let cells: Parameters<Encoder>[0]['parts'][number]['cells'] = []
  const leaf = (i: number) => {
    const t = i < 0 ? Take.none : take[i]!
    format.scalar(w, t === Take.value ? cells[i]!.value : t === Take.lastGood ? cells[i]!.goodValue : null, whole[i] ?? false)
  }
  const emitOf = (node: Node): (() => void) => {
    if ('leaf' in node) return () => leaf(node.leaf)
    if ('items' in node) {
      const items = node.items.map(emitOf)
      return () => {
        format.list(w, items.length)
        for (const e of items) e()
      }
    }
    const fields = fieldsOf(node.fields)
    return () => {
      format.map(w, fields.count())
      fields.emit()
    }
  }
  const fieldsOf = (list: readonly [string, Node][]) => {
    const fields = list.map(([name, node]) => ({ name: octets(name), node, emit: emitOf(node) }))
    return {
      count() {
        let n = 0
        for (const f of fields) if (anyTaken(f.node, take)) n++
        return n
      },
      emit() {
        for (const f of fields)
          if (anyTaken(f.node, take)) {
            w.raw(f.name)
            f.emit()
          }
      },
    }
  }
  const fields = fieldsOf(root.fields)
  return ({ parts, now, whole: all }) => {
    const part = parts[0]!
    choose(part, all)
    cells = part.cells
    const at = newest(cells, now)
    let odd = 0
    for (let i = 0; i < cells.length; i++) if (cells[i]!.status >>> 30 !== 0 && take[i] !== Take.nothing) odd++
    format.map(w, 1 + fields.count() + (odd > 0 ? 1 : 0))
    w.raw(atName)
    format.time(w, at, how, how.time === 'iso' || how.time === 'local' ? time(at).slice(1, -1) : '')
    fields.emit()
    if (odd > 0) {
      w.raw(qualityName)
      format.map(w, odd)
      for (let i = 0; i < cells.length; i++)
        if (cells[i]!.status >>> 30 !== 0 && take[i] !== Take.nothing) {
          w.raw(names[i]!)
          format.text(w, markOf(cells[i]!, take[i]!, at))
        }
    }
    return { at, payload: w.take() }
  }
}

/** The times of a binary message are texts, numbers or, where the format has such, times of its own, which come as Date. */
const timeOf = (raw: unknown, how: How) => (raw instanceof Date ? raw.getTime() : readTime(typeof raw === 'bigint' ? Number(raw) : raw, how.time))

export function treeDecoder(read: (bytes: Uint8Array) => unknown, how: How, one: PlanEquipment): Decoder {
  return (bytes): Decoded => {
    try {
      const tree = read(bytes)
      if (!isObject(tree)) return { problem: 'It is not a map', at: 0 }
      const at = timeOf(tree.at, how)
      const marks = isObject(tree.quality) ? tree.quality : {}
      return {
        kind: 'state',
        at,
        readings: one.members.flatMap((m) => {
          const raw = atKey(tree, m.key)
          return raw === undefined ? [] : [readingOf(null, m, raw, marks[m.key], at)]
        }),
      }
    } catch (e) {
      if (e instanceof OctetError) return { problem: e.message, at: e.at }
      throw e
    }
  }
}

/** Deeper than this is refused. */
export const DEPTH_MAX = 64
/** A map whose keys are texts, without a prototype to be polluted. */
export const emptyMap = (): Record<string, unknown> => Object.create(null)

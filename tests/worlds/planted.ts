import { Account } from '~/core/delivery/account'
import { AccountChanges } from '~/core/delivery/account-changes'
import { TopicOrder } from '~/core/delivery/topic-order'
import { CountedDeliveries } from '~/engine/destinations/mqtt/counted'
import { Coverage } from '~/engine/destinations/mqtt/coverage'
import { MqttFarEnd } from '~/engine/destinations/mqtt/far-end'
import { MqttSender } from '~/engine/destinations/mqtt/sender'
import { Suspicion } from '~/engine/destinations/suspicion'
import { LeaseKeeper } from '~/engine/lease-keeper'
import { Ledger } from '~/engine/ledger/ledger'
import { Announced } from '~/engine/outbox/announced'
import { Outbox } from '~/engine/outbox/outbox'
import { Witness } from '~/engine/witness/witness'
import { SimClock } from './scheduler'
import { SimDatabase } from './store'

// biome-ignore lint/suspicious/noExplicitAny: mistakes are made where types would forbid them.
type Any = any

interface Mistake {
  name: string
  /** Puts something else in the place of a method; the original is handed in. */
  of: { prototype: object }
  method: string
  wrong: (original: (...a: Any[]) => Any) => (this: Any, ...a: Any[]) => Any
  getter?: true
  /** Takes more worlds than the tests have time for: `npm run bench -- worlds` looks for it. */
  rare?: true
  /** Is looked for where packet identifiers are few. */
  few?: true
}

const nothing = () => () => undefined

/** Mistakes that somebody could make in delivery, each of which the worlds must find. */
export const mistakes: Mistake[] = [
  {
    rare: true,
    name: 'the witness acknowledges before the ledger has committed',
    of: Ledger,
    method: 'afterFlush',
    wrong: () => (then: () => void) => then(),
  },
  { name: 'the store does not check the epoch', of: SimDatabase, method: 'demand', wrong: nothing },
  { rare: true, name: 'an engine that cannot confirm its lease goes on sending', of: LeaseKeeper, method: 'valid', wrong: () => () => true },
  { name: 'numbers of uncounted segments are given again', of: Account, method: 'given', wrong: nothing },
  {
    rare: true,
    name: 'what a filter does not cover yet counts as covered',
    of: Coverage,
    method: 'coveredSince',
    wrong: () => () => Number.NEGATIVE_INFINITY,
  },
  { rare: true, name: 'filters outlive a session that the broker forgot', of: Coverage, method: 'clear', wrong: nothing },
  {
    name: 'every repeated delivery counts as a repetition',
    of: MqttFarEnd,
    method: 'handedOutBefore',
    wrong: () => (p) => (p.dup ? 'repetition' : 'new'),
  },
  { rare: true, name: 'a repetition under another identifier counts as a copy', of: MqttFarEnd, method: 'handedOutBefore', wrong: () => () => 'new' },
  {
    name: 'the cursor is one too far',
    of: Outbox,
    method: 'takeFlush',
    wrong: (original) =>
      function (this: Any) {
        const part = original.call(this)
        return part && { ...part, cursor: { ...part.cursor, done: part.cursor.done + 1 } }
      },
  },
  {
    rare: true,
    name: 'a segment goes when one of its messages is settled',
    of: Outbox,
    method: 'settled',
    wrong: (original) =>
      function (this: Any, item: Any) {
        item.segment.open = Math.min(item.segment.open, 1)
        original.call(this, item)
      },
  },
  { name: 'after a lost link it goes on where it was', of: Outbox, method: 'rewind', wrong: nothing },
  {
    name: 'now and then a wake-up is lost',
    of: Outbox,
    method: 'wake',
    wrong: (original) =>
      function (this: Any) {
        this.lostWakes = (this.lostWakes ?? 0) + 1
        if (this.lostWakes % 3 !== 0) original.call(this)
        else this.waiters = []
      },
  },
  {
    name: 'a flush whose answer was lost counts twice',
    of: SimDatabase,
    method: 'flushed',
    wrong: (original) =>
      function (this: Any, w: Any, epoch: number) {
        if (this.flush === w.number) this.flush--
        original.call(this, w, epoch)
      },
  },
  {
    name: 'a slice is left out',
    of: AccountChanges,
    method: 'take',
    wrong: (original) =>
      function (this: Any, delivery: number) {
        const change = original.call(this, delivery)
        return { ...change, slices: change.slices.slice(0, 1) }
      },
  },
  { name: 'verdicts that change are not written', of: AccountChanges, method: 'moved', wrong: nothing },
  {
    name: 'the broker is believed to hold nothing back',
    of: MqttFarEnd,
    method: 'view',
    wrong: (original) =>
      function (this: Any) {
        const view = original.call(this)
        return view && { ...view, clearAt: this.clock.mono() }
      },
  },
  {
    rare: true,
    name: 'a message seen is proof for all that were sent at any time',
    of: MqttFarEnd,
    method: 'sawSentAt',
    wrong: () =>
      function (this: Any) {
        this.seenAt = this.seenAnyAt = this.clock.mono()
      },
  },
  { rare: true, name: 'what the witness had counted is forgotten at a start', of: CountedDeliveries, method: 'restore', wrong: nothing },
  { rare: true, name: 'what the witness counts is not written', of: CountedDeliveries, method: 'take', wrong: () => () => null },
  {
    name: 'identifiers of QoS 2 differ after a lost link',
    of: MqttSender,
    method: 'framed',
    wrong: (original) =>
      function (this: Any, m: Any) {
        this.wrongId = (this.wrongId ?? Math.floor(m.ordinal / 3)) + 1
        return original.call(this, m.envelope.assurance === 'once' ? { ...m, ordinal: m.ordinal + 7 * (m.again ? 1 : 0) } : m)
      },
  },
  { few: true, name: 'a broker is not told to let go of an identifier before a new message has it', of: MqttSender, method: 'free', wrong: nothing },
  { few: true, name: 'what an earlier engine may have sent counts as new', of: Announced, method: 'inDoubt', wrong: () => () => false },
  { few: true, name: 'messages go out further ahead than is written', of: Announced, method: 'covers', wrong: () => () => true },
  {
    few: true,
    name: 'identifiers that an earlier engine had done with are let go of without end',
    of: Outbox,
    method: 'doneLately',
    wrong: (original) =>
      function (this: Any) {
        return original.call(this, 1000)
      },
  },
  { rare: true, name: 'a resent message counts as sent once', of: Account, method: 'twice', wrong: nothing },
  { rare: true, name: 'the first lost link puts a message aside', of: Suspicion, method: 'strike', wrong: () => () => true },
  { rare: true, name: 'every lost link makes it careful', of: Suspicion, method: 'careful', getter: true, wrong: () => () => true },
  {
    rare: true,
    name: 'waits go by the wall clock',
    of: SimClock,
    method: 'mono',
    wrong: () =>
      function (this: Any) {
        return this.wall() - Date.UTC(2026, 10, 27)
      },
  },
  {
    rare: true,
    name: 'a message that passes another is no later one',
    of: TopicOrder,
    method: 'arrived',
    wrong: () =>
      function (this: Any, m: Any) {
        m.gone = true
      },
  },
  {
    rare: true,
    name: 'strangers are nobody at once',
    of: Witness,
    method: 'settleStrangers',
    wrong: () =>
      function (this: Any) {
        this.strangers.waiting.clear()
      },
  },
]

/** Makes a mistake; gives how to mend it. */
export function plant(m: Mistake): () => void {
  const prototype = m.of.prototype as Record<string, unknown>
  const before = Object.getOwnPropertyDescriptor(prototype, m.method)
  if (!before) throw new Error(`${m.name}: there is no ${m.method}`)
  if (m.getter) Object.defineProperty(prototype, m.method, { get: m.wrong(before.get!), configurable: true })
  else prototype[m.method] = m.wrong(before.value)
  return () => Object.defineProperty(prototype, m.method, before)
}

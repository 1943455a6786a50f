import type { PublicationDraft } from '~/contract/publication'
import { type ShapeKind, ShapeSettings } from '~/contract/shape'
import type { Step } from '~/contract/step'

/** Another way to send the same. */
export interface Variant {
  /** Tells it from the others. */
  key: string
  kind: 'as it is' | 'deadband' | 'pace' | 'gathered' | 'shape' | 'compressed'
  label: string
  /** What of the draft is otherwise. */
  change: Partial<PublicationDraft>
}

const DEADBANDS = [0.2, 0.5, 1, 2, 5]
const PACES = [1, 2, 5, 10, 30, 60]
const WINDOWS = [10, 60]
const COUNTS = [10, 50]
/** So long it takes at most until so many are sent together, s. */
const TOGETHER_S = 300
/** Shapes that say the same of one equipment, each in its way. */
const ALIKE: readonly [ShapeKind, string][] = [
  ['flat-json', 'flat JSON'],
  ['cbor', 'CBOR'],
  ['messagepack', 'MessagePack'],
]
const COMPRESSIONS = ['gzip', 'zstd'] as const

/** Ways in which a draft could be sent otherwise, to be reckoned one after the other; it itself comes first. */
export function variantsOf(draft: PublicationDraft): Variant[] {
  return [
    { key: 'as it is', kind: 'as it is', label: 'as it is', change: {} },
    ...deadbands(draft),
    ...paces(draft),
    ...windows(draft),
    ...shapes(draft),
  ]
}

function deadbands({ trigger }: PublicationDraft): Variant[] {
  if (trigger.kind !== 'change') return []
  // In the way in which it is said now; else of the value, which every number has.
  const range = trigger.deadband?.kind === 'range'
  return DEADBANDS.flatMap((percent): Variant[] => {
    if (trigger.deadband && 'percent' in trigger.deadband && trigger.deadband.percent === percent) return []
    const deadband = range ? { kind: 'range' as const, percent } : { kind: 'value' as const, percent }
    const of = range ? 'of the range' : 'of the value'
    return [
      { key: `deadband ${percent}`, kind: 'deadband', label: `change beyond ${percent} % ${of}`, change: { trigger: { ...trigger, deadband } } },
    ]
  })
}

function paces({ trigger, pace }: PublicationDraft): Variant[] {
  if (trigger.kind === 'hand' || trigger.kind === 'schedule') return []
  const beat = trigger.kind === 'every' ? trigger.seconds : 0
  return PACES.filter((s) => s > Math.max(pace?.mostS ?? 0, beat) && s <= (pace?.leastS ?? Number.POSITIVE_INFINITY)).map((s): Variant => {
    if (trigger.kind === 'every') return { key: `every ${s}`, kind: 'pace', label: `every ${s} s`, change: { trigger: { ...trigger, seconds: s } } }
    return { key: `most ${s}`, kind: 'pace', label: `at most every ${s} s`, change: { pace: { ...pace, mostS: s } } }
  })
}

function windows({ steps = [], own }: PublicationDraft): Variant[] {
  // What is gathered is not gathered again.
  if (steps.some((s) => s.kind === 'window') || own?.some((s) => s.kind === 'window')) return []
  const with_ = (step: Step): Partial<PublicationDraft> => ({ steps: [...steps, step] })
  const gathered = (key: string, label: string, step: Step): Variant => ({ key, kind: 'gathered', label, change: with_(step) })
  return [
    ...WINDOWS.map((seconds) => gathered(`average ${seconds}`, `averages of ${seconds} s`, { kind: 'window', seconds, by: 'average' })),
    ...COUNTS.map((messages) =>
      gathered(`each ${messages}`, `${messages} in one, within 5 min`, { kind: 'window', seconds: TOGETHER_S, by: 'each', messages }),
    ),
  ]
}

function shapes({ shape }: PublicationDraft): Variant[] {
  const out: Variant[] = []
  const alike = ALIKE.some(([kind]) => kind === shape.kind)
  for (const [kind, words] of alike ? ALIKE : []) {
    if (kind === shape.kind) continue
    // What both have stays as it was chosen.
    const next = ShapeSettings.safeParse({ ...shape, kind })
    if (next.success) out.push({ key: `shape ${kind}`, kind: 'shape', label: words, change: { shape: next.data } })
  }
  if ('compression' in shape)
    for (const compression of COMPRESSIONS)
      if (shape.compression !== compression)
        out.push({ key: compression, kind: 'compressed', label: compression, change: { shape: { ...shape, compression } as ShapeSettings } })
  return out
}

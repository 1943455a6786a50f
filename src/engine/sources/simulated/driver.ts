import { FailureError } from '~/contract/failure'
import type { BrowseNode } from '~/contract/source'
import { parseRecording, parseSignal, type Recording, runSignal, signalExamples, signalKinds } from '~/core/source/signal'
import { conform } from '~/core/value/datatype'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { wordsOf } from '../../log'
import { runSteps } from '../../net/steps'
import type { SourceConnection, SourceDriver, SourceSink, SourceTarget, WantedTag } from '../driver'
import { type Moving, Paced } from '../paced'

/** Work is spread over the update rate in slices of so many ms, so that many tags do not all change in one moment. */
const SLICE_MS = 50

function recordingOf(target: SourceTarget<'simulated'>): Recording | null {
  const { recording } = target.settings
  if (recording.trim() === '') return null
  try {
    return parseRecording(recording)
  } catch (e) {
    throw new FailureError({ code: 'simulated.recording', message: wordsOf(e), hint: 'Correct the recording', where: 'source' }, 422)
  }
}

/** Signals that Embrik computes itself. */
export const simulatedDriver: SourceDriver<'simulated'> = {
  async *check(target) {
    yield* runSteps(
      [
        {
          key: 'recording',
          label: 'Recording',
          run: async () => {
            const r = recordingOf(target)
            return r ? `${r.times.length} rows over ${r.times.at(-1)} s: ${[...r.columns.keys()].join(', ')}` : 'none: nothing to replay'
          },
        },
      ],
      (e) => ({ code: 'simulated.failed', message: wordsOf(e), hint: '', where: 'source' }),
    )
  },

  async browse(target, _ctx, address, deep) {
    const columns = [...(recordingOf(target)?.columns.keys() ?? [])]
    const replay = columns.map(
      (c): BrowseNode => ({
        address: `replay column="${c}"`,
        name: c,
        kind: 'variable',
        hasChildren: false,
        dataType: 'number',
        path: `Recording/${c}`,
      }),
    )
    const signals = signalExamples
      .filter((e) => !e.startsWith('replay'))
      .map((e): BrowseNode => {
        const kind = e.split(' ')[0]! as keyof typeof signalKinds
        return {
          address: e,
          name: kind,
          kind: 'variable',
          hasChildren: false,
          dataType: kind === 'cycle' ? 'text' : 'number',
          description: signalKinds[kind],
          path: `Signals/${kind}`,
        }
      })
    if (deep && address === '') return [...signals, ...replay]
    if (address === 'Signals') return signals
    if (address === 'Recording') return replay
    return [
      { address: 'Signals', name: 'Signals', kind: 'folder', hasChildren: true },
      ...(columns.length > 0 ? [{ address: 'Recording', name: 'Recording', kind: 'folder' as const, hasChildren: true }] : []),
    ]
  },

  async open(target, _ctx, sink) {
    return new SimulatedConnection(target, recordingOf(target), sink)
  },
}

interface Running extends Moving {
  tag: WantedTag
  /** It is computed every so many rounds. */
  every: number
}

class SimulatedConnection implements SourceConnection {
  readonly summary: string
  private slices: Running[][] = []
  private at = 0
  private round = 0
  private readonly began = Date.now()
  private timer: NodeJS.Timeout | null = null
  private running = new Map<number, Running>()
  private readonly paced = new Paced(
    () => this.running,
    () => (Date.now() - this.began) / 1000,
    (handles, values) => this.say(handles, values, Date.now()),
  )

  constructor(
    private readonly target: SourceTarget<'simulated'>,
    private readonly recording: Recording | null,
    private readonly sink: SourceSink,
  ) {
    this.summary = `computed here, seed ${target.settings.seed}`
  }

  async setTags(tags: readonly WantedTag[]): Promise<void> {
    const { rateMs, seed } = this.target.settings
    const slices = Math.max(1, Math.round(rateMs / SLICE_MS))
    this.slices = Array.from({ length: slices }, () => [])
    const before = this.running
    this.running = new Map()
    for (const [i, tag] of tags.entries()) {
      let one = before.get(tag.handle)
      if (!one || one.tag.address !== tag.address || one.tag.dataType !== tag.dataType) {
        const signal = parseSignal(tag.address)
        if ('problem' in signal) {
          this.sink.values({
            handles: [tag.handle],
            values: [null],
            statuses: [Status.nodeInvalid],
            times: [Date.now()],
            notes: new Map([[tag.handle, { at: Date.now(), text: signal.problem }]]),
          })
          continue
        }
        // Named by its place among the tags, so that a fresh installation with the same seed computes the same.
        one = {
          tag,
          next: runSignal(signal, seed, `${i} ${tag.address}`, this.recording),
          last: undefined,
          every: 1,
          dataType: tag.dataType,
          ahead: 0,
        }
      }
      // A rate of its own is kept as the nearest number of rounds: not faster than the source's.
      one.every = Math.max(1, Math.round((tag.sampleMs ?? rateMs) / rateMs))
      this.running.set(tag.handle, one)
      this.slices[i % slices]!.push(one)
    }
    if (this.timer) clearInterval(this.timer)
    this.timer = setInterval(() => this.tick(), rateMs / slices)
  }

  private tick(): void {
    const slice = this.slices[this.at]!
    this.at = (this.at + 1) % this.slices.length
    if (this.at === 0) this.round++
    const now = Date.now()
    const seconds = (now - this.began) / 1000
    const handles: number[] = []
    const values: Scalar[] = []
    for (const one of slice) {
      if ((one.last !== undefined && this.round % one.every !== 0) || this.paced.has(one.tag.handle)) continue
      const value = conform(one.next(seconds + one.ahead), one.tag.dataType)
      if (value === one.last) continue
      one.last = value
      handles.push(one.tag.handle)
      values.push(value)
    }
    if (handles.length > 0) this.say(handles, values, now)
  }

  private say(handles: number[], values: Scalar[], now: number): void {
    this.sink.values({ handles, values, statuses: values.map((v) => (v === null ? Status.noData : Status.good)), times: handles.map(() => now) })
  }

  pace(handles: ReadonlySet<number>, multiple: number): number {
    if (multiple > 1) return this.paced.begin(handles, multiple, this.target.settings.rateMs)
    this.paced.end()
    return 0
  }

  async close(): Promise<void> {
    this.paced.end()
    if (this.timer) clearInterval(this.timer)
  }
}

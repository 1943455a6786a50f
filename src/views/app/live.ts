import { useEffect, useSyncExternalStore } from 'react'
import type { LastMessage, LiveFrames } from '~/contract/live'
import type { Scalar } from '~/core/value/deadband'
import { fromWire } from '~/core/value/wire'

type Part = 'sources' | 'publications' | 'destinations' | 'ledger'
type FrameName = 'course' | Part | 'down'

interface Want {
  tags?: readonly number[]
  sparks?: boolean
  parts?: readonly Part[]
  messages?: readonly string[]
}

/** `[1,2,3,7]` is `1-3,7`. */
function ranges(handles: Iterable<number>): string {
  const sorted = [...new Set(handles)].sort((a, b) => a - b)
  const out: string[] = []
  for (let i = 0; i < sorted.length; ) {
    let end = i
    while (sorted[end + 1] === sorted[end]! + 1) end++
    out.push(end > i ? `${sorted[i]}-${sorted[end]}` : `${sorted[i]}`)
    i = end + 1
  }
  return out.join(',')
}

/** A tag's present value in the browser: as on the line, its value taken off it. */
export type ShownValue = [handle: number, value: Scalar, status: number, time: number, seen: number]

/** One stream of live values for the whole page: what its parts want together, opened anew when that changes. */
class LiveStore {
  private readonly wants = new Map<object, Want>()
  private source: EventSource | null = null
  private url = ''
  private timer: ReturnType<typeof setTimeout> | null = null
  private readonly values = new Map<number, ShownValue>()
  private readonly sparks = new Map<number, (number | null)[]>()
  private readonly messages = new Map<string, LastMessage>()
  private readonly frames: { [K in FrameName]?: LiveFrames[K] } = {}
  private readonly listeners = new Map<string, Set<() => void>>()
  online: 'opening' | 'on' | 'off' = 'opening'
  /** Under this key the table of tags asks for what it shows. */
  readonly table = {}

  want(key: object, want: Want | null): void {
    if (want) this.wants.set(key, want)
    else this.wants.delete(key)
    if (this.timer) clearTimeout(this.timer)
    this.timer = setTimeout(() => this.open(), this.source ? 120 : 0)
  }

  private open(): void {
    const all = [...this.wants.values()]
    const query = new URLSearchParams({
      tags: ranges(all.flatMap((w) => [...(w.tags ?? [])])),
      parts: ['course', ...new Set(all.flatMap((w) => [...(w.parts ?? [])]))].join(','),
      messages: [...new Set(all.flatMap((w) => [...(w.messages ?? [])]))].join(','),
      spark: String(all.some((w) => w.sparks)),
    })
    const url = `/api/live?${query}`
    if (url === this.url && this.source && this.source.readyState !== EventSource.CLOSED) return
    this.url = url
    this.source?.close()
    const source = new EventSource(url)
    this.source = source
    const on = <K extends keyof LiveFrames>(name: K, take: (frame: LiveFrames[K]) => void) =>
      source.addEventListener(name, (e) => take(JSON.parse((e as MessageEvent<string>).data) as LiveFrames[K]))
    on('hello', () => {
      delete this.frames.down
      this.setOnline('on')
      this.tell('down')
    })
    on('down', (f) => {
      this.frames.down = f
      this.setOnline('off')
      this.tell('down')
    })
    on('values', (changed) => {
      for (const v of changed) this.values.set(v[0], [v[0], fromWire(v[1]), v[2], v[3], v[4]])
      for (const v of changed) this.tell(`v${v[0]}`)
      this.tell('values')
    })
    on('sparks', (frame) => {
      for (const [h, points] of Object.entries(frame)) {
        this.sparks.set(Number(h), points)
        this.tell(`s${h}`)
      }
    })
    on('message', (m) => {
      this.messages.set(m.publicationId, m)
      this.tell(`m${m.publicationId}`)
    })
    for (const name of ['course', 'sources', 'publications', 'destinations', 'ledger'] as const)
      on(name, (frame) => {
        ;(this.frames as Record<string, unknown>)[name] = frame
        this.tell(name)
      })
    source.onerror = () => {
      this.setOnline('off')
      // A closed source doesn't come back by itself (the answer was no stream): try again.
      if (source.readyState === EventSource.CLOSED)
        setTimeout(() => {
          if (this.source === source) {
            this.source = null
            this.open()
          }
        }, 1500)
    }
  }

  private setOnline(state: LiveStore['online']): void {
    if (this.online === state) return
    this.online = state
    this.tell('online')
  }

  private tell(topic: string): void {
    for (const l of this.listeners.get(topic) ?? []) l()
  }

  subscribe = (topic: string, listener: () => void): (() => void) => {
    let set = this.listeners.get(topic)
    if (!set) this.listeners.set(topic, (set = new Set()))
    set.add(listener)
    return () => {
      set.delete(listener)
    }
  }

  value = (handle: number) => this.values.get(handle)
  spark = (handle: number) => this.sparks.get(handle)
  message = (id: string) => this.messages.get(id)
  frame = <K extends FrameName>(name: K) => this.frames[name]
}

export const live = new LiveStore()

/** Asks for live things as long as the component is there. */
export function useWatch(want: Want): void {
  const text = JSON.stringify(want)
  useEffect(() => {
    const key = {}
    live.want(key, JSON.parse(text) as Want)
    return () => live.want(key, null)
  }, [text])
}

function useTopic<T>(topic: string, read: () => T): T {
  return useSyncExternalStore((l) => live.subscribe(topic, l), read)
}

export const useLiveValue = (handle: number) => useTopic(`v${handle}`, () => live.value(handle))
export const useSpark = (handle: number) => useTopic(`s${handle}`, () => live.spark(handle))
export const useFrame = <K extends FrameName>(name: K) => useTopic(name, () => live.frame(name))
export const useLastMessage = (publicationId: string) => useTopic(`m${publicationId}`, () => live.message(publicationId))
export const useOnline = () => useTopic('online', () => live.online)

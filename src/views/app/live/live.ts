import { useEffect, useSyncExternalStore } from 'react'
import type { LastMessage, LiveFrames } from '~/contract/live'
import type { Scalar } from '~/core/value/deadband'
import { fromWire } from '~/core/value/wire'
import { hearClock } from '~/ui/clock'
import { toLogIn } from '../leaving'
import type { Heard } from './line'
import { Link } from './link'
import { type Part, together, type Want } from './wants'

type FrameName = 'course' | Part | 'down'

/** How the line to Embrik is: `silent` is a line on which nothing comes, `off` one that is lost or leads to no engine. */
export type Online = 'opening' | 'on' | 'silent' | 'off'

/** A tag's present value in the browser: as on the line, its value taken off it. */
export type ShownValue = [handle: number, value: Scalar, status: number, time: number, seen: number]

/** Live values for the whole page: what its parts want together. */
class LiveStore {
  private readonly wants = new Map<object, Want>()
  private link: Link | null = null
  private timer: ReturnType<typeof setTimeout> | null = null
  private readonly values = new Map<number, ShownValue>()
  private readonly sparks = new Map<number, (number | null)[]>()
  private readonly messages = new Map<string, LastMessage>()
  private readonly frames: { [K in FrameName]?: LiveFrames[K] } = {}
  private readonly listeners = new Map<string, Set<() => void>>()
  online: Online = 'opening'
  /** Under this key the table of tags asks for what it shows. */
  readonly table = {}

  want(key: object, want: Want | null): void {
    if (want) this.wants.set(key, want)
    else this.wants.delete(key)
    if (this.timer) clearTimeout(this.timer)
    this.timer = setTimeout(() => {
      this.link ??= new Link((h) => this.hear(h))
      this.link.want(together(this.wants.values()))
    }, 0)
  }

  private hear(h: Heard): void {
    switch (h.name) {
      case 'hello':
      case 'beat':
        hearClock(h.frame.at)
        if (h.name === 'beat' && this.frames.down) return
        delete this.frames.down
        this.setOnline('on')
        return this.tell('down')
      case 'down':
        this.frames.down = h.frame
        this.setOnline('off')
        return this.tell('down')
      case 'lost':
        delete this.frames.down
        this.setOnline('off')
        return this.tell('down')
      case 'silent':
        return this.setOnline(this.online === 'off' ? 'off' : 'silent')
      case 'logged out':
        return toLogIn(true)
      case 'values':
        for (const v of h.frame) this.values.set(v[0], [v[0], fromWire(v[1]), v[2], v[3], v[4]])
        for (const v of h.frame) this.tell(`v${v[0]}`)
        return this.tell('values')
      case 'sparks':
        for (const [handle, points] of Object.entries(h.frame)) {
          this.sparks.set(Number(handle), points)
          this.tell(`s${handle}`)
        }
        return
      case 'message':
        this.messages.set(h.frame.publicationId, h.frame)
        return this.tell(`m${h.frame.publicationId}`)
      default:
        ;(this.frames as Record<string, unknown>)[h.name] = h.frame
        this.tell(h.name)
    }
  }

  private setOnline(state: Online): void {
    if (this.online === state) return
    this.online = state
    // What is shown is drawn as old, wherever it stands.
    document.documentElement.dataset.line = state
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

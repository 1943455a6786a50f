import { format } from 'date-fns'
import { useEffect, useRef, useState } from 'react'
import { serverNow } from './clock'

/** Epoch ms that moves on every `everyMs`, for ages. */
export function useNow(everyMs = 1000): number {
  const [now, setNow] = useState(serverNow)
  useEffect(() => {
    const timer = setInterval(() => setNow(serverNow()), everyMs)
    return () => clearInterval(timer)
  }, [everyMs])
  return now
}

const ages = new Set<() => void>()
let ticker: ReturnType<typeof setInterval> | null = null

/** How long ago something was, counting on; one clock for all of them, which writes the text itself. 0: never. */
export function Age({ at }: { at: number }) {
  const box = useRef<HTMLSpanElement>(null)
  useEffect(() => {
    const tick = () => {
      if (box.current) box.current.textContent = at === 0 ? '-' : ageText(serverNow() - at)
    }
    ages.add(tick)
    ticker ??= setInterval(() => {
      for (const a of ages) a()
    }, 1000)
    return () => {
      ages.delete(tick)
      if (ages.size > 0 || ticker === null) return
      clearInterval(ticker)
      ticker = null
    }
  }, [at])
  return (
    <span ref={box} className="font-mono text-[12.5px]">
      {at === 0 ? '-' : ageText(serverNow() - at)}
    </span>
  )
}

/** `0.8 s`, `3 min`, `2 h`: how long ago. */
export function ageText(ms: number): string {
  const s = Math.max(0, ms) / 1000
  if (s < 10) return `${s.toFixed(1)} s`
  if (s < 90) return `${Math.round(s)} s`
  if (s < 5400) return `${Math.round(s / 60)} min`
  if (s < 48 * 3600) return `${Math.round(s / 3600)} h`
  return `${Math.round(s / 86_400)} days`
}

/** Local time to the millisecond; UTC on hover. */
export function Time({ at, date = false }: { at: number; date?: boolean }) {
  return (
    <time
      dateTime={new Date(at).toISOString()}
      title={`${new Date(at).toISOString().replace('T', ' ').replace('Z', '')} UTC`}
      className="font-mono text-[12.5px]"
    >
      {format(at, date ? 'yyyy-MM-dd HH:mm:ss.SSS' : 'HH:mm:ss.SSS')}
    </time>
  )
}

/** `41 ms`, `2.3 s`, `4 min`. */
export function durationText(ms: number): string {
  if (ms < 10) return `${ms.toFixed(1)} ms`
  if (ms < 1000) return `${Math.round(ms)} ms`
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`
  return `${(ms / 60_000).toFixed(1)} min`
}

/** `1.2 MB`. */
export function bytesText(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`
  if (bytes < 1e6) return `${(bytes / 1e3).toFixed(bytes < 1e4 ? 1 : 0)} kB`
  if (bytes < 1e9) return `${(bytes / 1e6).toFixed(bytes < 1e7 ? 1 : 0)} MB`
  return `${(bytes / 1e9).toFixed(1)} GB`
}

/** `12/s`, `2.1k/s`, `0.4/s`. */
export function rateText(perSecond: number): string {
  if (perSecond === 0) return '0/s'
  if (perSecond < 10) return `${perSecond.toFixed(1)}/s`
  if (perSecond < 1000) return `${Math.round(perSecond)}/s`
  return `${(perSecond / 1000).toFixed(1)}k/s`
}

const grouped = new Intl.NumberFormat('en')
/** `1,204,881`. */
export const countText = (n: number) => grouped.format(n)

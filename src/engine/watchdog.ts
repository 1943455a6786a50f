import { existsSync, readFileSync, rmSync } from 'node:fs'
import { Worker } from 'node:worker_threads'

/** Octets kept of the name of where the loop is. */
const NAME_OCTETS = 200

const beats = new Int32Array(new SharedArrayBuffer(8))
const place = new Uint8Array(new SharedArrayBuffer(NAME_OCTETS))
const encoder = new TextEncoder()
let here = ''

function enter(name: string): void {
  here = name
  const { written } = encoder.encodeInto(name, place.subarray(0, NAME_OCTETS - 1))
  place[written] = 0
}

/** Does work that belongs to one compartment, under its name: should the loop never come back from it, that is told. */
export function inCompartment<T>(name: string, work: () => T): T {
  const before = here
  enter(name)
  try {
    return work()
  } finally {
    enter(before)
  }
}

// A thread of its own, which a loop that stands still cannot hold up. It counts looks, not time: a machine that was paused as a
// whole has looked once.
const program = `
const { workerData } = require('node:worker_threads')
const { writeFileSync, writeSync } = require('node:fs')
const { beats, place, everyMs, looks, file } = workerData
let last = -1
let still = 0
setInterval(() => {
  const now = Atomics.load(beats, 0)
  still = now === last ? still + 1 : 0
  last = now
  if (still < looks) return
  const end = place.indexOf(0)
  const where = Buffer.from(place.slice(0, end < 0 ? place.length : end)).toString('utf8')
  try {
    writeFileSync(file, JSON.stringify({ where, at: Date.now(), seconds: Math.round((still * everyMs) / 1000) }))
  } catch {}
  // Not by the console, which goes through the thread that stands still.
  try {
    writeSync(2, new Date().toISOString() + ' error engine: its loop stands still' + (where ? ' in ' + where : '') + '; it is ended\\n')
  } catch {}
  process.kill(process.pid, 'SIGKILL')
}, everyMs)
`

export interface WatchdogOptions {
  /** Where it is noted what stood still, for the next start. */
  file: string
  /** How often it is looked, ms, and how often in a row the loop must have stood still. */
  everyMs: number
  looks: number
}

/** Ends this process when its event loop stands still for too long; whoever started it starts it anew. */
export function startWatchdog(o: WatchdogOptions): () => void {
  const beat = setInterval(() => Atomics.add(beats, 0, 1), Math.max(10, o.everyMs / 2))
  beat.unref()
  const worker = new Worker(program, { eval: true, workerData: { beats, place, ...o } })
  worker.on('error', () => undefined)
  worker.unref()
  return () => {
    clearInterval(beat)
    void worker.terminate()
  }
}

/** What the run before stood still in; null: it did not. Told once. */
export function stoodStill(file: string): { where: string; at: number; seconds: number } | null {
  if (!existsSync(file)) return null
  try {
    return JSON.parse(readFileSync(file, 'utf8')) as { where: string; at: number; seconds: number }
  } catch {
    return null
  } finally {
    rmSync(file, { force: true })
  }
}

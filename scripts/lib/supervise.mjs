import { spawn } from 'node:child_process'
import { chmodSync, mkdirSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { LogFile } from './log-file.mjs'

/** Exit codes after which starting again can't help: a taken port, a refused configuration. */
const HOPELESS = new Set([98, 2])

/** Runs processes, writes their output to log files, and starts those again that die, waiting longer each time. */
export class Supervisor {
  constructor(logFolder, tell = (line) => console.log(line)) {
    this.logFolder = logFolder
    this.tell = tell
    this.children = new Map()
    this.stopping = false
    mkdirSync(logFolder, { recursive: true, mode: 0o700 })
    chmodSync(logFolder, 0o700)
  }

  /** Starts a process; `spec` is {command, args, cwd, env, stopSignal}. */
  start(name, spec) {
    const entry = {
      spec,
      wait: 250,
      child: null,
      log: new LogFile(join(this.logFolder, `${name}.log`)),
      tail: '',
      timer: null,
      dead: null,
    }
    this.children.set(name, entry)
    this.launch(name, entry)
  }

  launch(name, entry) {
    const began = Date.now()
    // A process group of its own: Ctrl-C reaches only the supervisor, which then stops all in order.
    const child = spawn(entry.spec.command, entry.spec.args, {
      cwd: entry.spec.cwd,
      env: { ...process.env, ...entry.spec.env },
      stdio: ['ignore', 'pipe', 'pipe'],
      detached: true,
    })
    entry.child = child
    try {
      if (child.pid) writeFileSync(join(this.logFolder, `${name}.pid`), String(child.pid))
    } catch {
      // A full disk must not end what supervises.
    }
    const keep = (chunk) => {
      entry.tail = (entry.tail + chunk).slice(-4000)
      entry.log.write(chunk)
      if (entry.spec.onOutput) entry.spec.onOutput(String(chunk))
    }
    child.stdout.on('data', keep)
    child.stderr.on('data', keep)
    child.on('error', (e) => keep(`${e.message}\n`))
    entry.ended = new Promise((done) => {
      child.on('close', (code, signal) => {
        entry.child = null
        done()
        if (this.stopping || entry.stopped) return
        if (HOPELESS.has(code)) {
          entry.dead = entry.tail.trim().split('\n').at(-1)
          this.tell(`${name} ended: ${entry.dead}`)
          return
        }
        if (Date.now() - began > 30_000) entry.wait = 250
        this.tell(
          `${name} died (${signal ?? `code ${code}`}); started again in ${entry.wait / 1000} s. Its log: ${join(this.logFolder, `${name}.log`)}`,
        )
        entry.timer = setTimeout(() => this.launch(name, entry), entry.wait)
        entry.wait = Math.min(entry.wait * 2, 15_000)
      })
    })
  }

  /** Resolves when `ready` says so; rejects when the process can't run or time is up. */
  async until(name, ready, seconds) {
    const entry = this.children.get(name)
    for (const end = Date.now() + seconds * 1000; Date.now() < end && !this.stopping; ) {
      if (await ready()) return
      if (entry.dead) throw new Error(entry.dead)
      await new Promise((done) => setTimeout(done, 40))
    }
    if (this.stopping) throw new Error('Stopped while starting')
    throw new Error(`${name} did not get ready in ${seconds} s. The end of its log:\n${entry.tail.trim().split('\n').slice(-15).join('\n')}`)
  }

  pid(name) {
    return this.children.get(name)?.child?.pid ?? null
  }

  /** Sends a signal to one process, as a fault would; it is started again. */
  kill(name, signal) {
    const child = this.children.get(name)?.child
    if (child) process.kill(child.pid, signal)
  }

  async stopOne(name) {
    const entry = this.children.get(name)
    if (!entry) return
    entry.stopped = true
    clearTimeout(entry.timer)
    const { child } = entry
    if (child) {
      child.kill(entry.spec.stopSignal ?? 'SIGTERM')
      const hard = setTimeout(() => {
        try {
          process.kill(-child.pid, 'SIGKILL')
        } catch {}
      }, 8000)
      await entry.ended
      clearTimeout(hard)
    }
    entry.log.end()
    this.children.delete(name)
  }

  /** Stops all, the last started first. */
  async stop() {
    this.stopping = true
    for (const name of [...this.children.keys()].reverse()) await this.stopOne(name)
  }
}

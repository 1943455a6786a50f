import { type ChildProcess, spawn, spawnSync } from 'node:child_process'
import { join } from 'node:path'
import pg from 'pg'
import { bundled } from '../bundle'
import { pause } from './scene'
import { folder, freePort, until } from './support'

/** The program of an engine whose tags change all the time. */
export const flowingProgram = () => bundled('tests/engine/flowing-engine.ts', 'flowing-engine.mjs')

export interface Flowing {
  program: string
  url: string
  key: string
  handles: readonly number[]
  perSecond: number
  /** Where destinations may write files. */
  files?: string
}

/** An engine in a process of its own, to be killed, stopped where it is, and started again. */
export class FlowProcess {
  private child: ChildProcess | null = null
  /** What it said last. */
  output = ''

  constructor(private readonly flow: Flowing) {}

  async start(): Promise<void> {
    const { program, files, ...flow } = this.flow
    const child = spawn(process.execPath, [program], {
      env: {
        ...process.env,
        ...(files !== undefined && { EMBRIK_FILES_DIR: files }),
        EMBRIK_FLOW: JSON.stringify({ ...flow, workFolder: folder('flow') }),
      },
      stdio: ['ignore', 'pipe', 'pipe', 'ipc'],
    })
    this.child = child
    const keep = (chunk: Buffer) => {
      this.output = (this.output + chunk).slice(-Number(process.env.EMBRIK_FLOW_LOG ?? 4000))
    }
    child.stdout!.on('data', keep)
    child.stderr!.on('data', keep)
    await new Promise<void>((done, failed) => {
      child.once('message', () => done())
      child.once('exit', (code) => failed(new Error(`the engine ended with ${code}: ${this.output}`)))
    })
  }

  /** What it says of itself, behind what it said last. */
  async stands(): Promise<string> {
    if (!this.child?.connected) return `it is gone\n${this.output}`
    this.child.send('stand')
    await pause(2000)
    return this.output
  }

  /** Lets no more be made. */
  still(): void {
    this.child!.send('still')
  }

  /** Somebody sets the clock of its machine, so far from the true time, ms. */
  setClock(ms: number): void {
    if (this.child?.connected) this.child.send({ clock: ms })
  }

  /** Stops the process where it is, as a machine that sleeps; gives what lets it go on, and what it ends with. */
  freeze(): { goOn: () => void; ended: Promise<number | null> } {
    const child = this.child!
    const ended = new Promise<number | null>((done) => child.once('exit', (code) => done(code)))
    child.kill('SIGSTOP')
    return { goOn: () => child.kill('SIGCONT'), ended }
  }

  /** So many files and sockets the process may have open from now on. */
  openAtMost(most: number): void {
    const set = spawnSync('prlimit', ['--pid', String(this.child!.pid), `--nofile=${most}:4096`])
    if (set.status !== 0) throw new Error(`prlimit: ${set.stderr}`)
  }

  async kill(): Promise<void> {
    const gone = new Promise((done) => this.child!.once('exit', done))
    this.child!.kill('SIGKILL')
    await gone
  }

  async end(): Promise<void> {
    if (this.child?.exitCode === null && this.child.signalCode === null) await this.kill()
  }
}

/** A database is stopped at once and started again, so many times, while an engine goes on. */
export async function loses(server: Awaited<ReturnType<typeof ownServer>>, times: number): Promise<void> {
  for (let i = 0; i < times; i++) {
    await pause(2500)
    await server.stop('SIGQUIT')
    await pause(1500)
    await server.start()
  }
  await pause(2500)
}

/** A database server of one's own, to be stopped and started again. */
export async function ownServer() {
  const { privateCluster } = (await import(
    /* @vite-ignore */ join(process.cwd(), 'scripts', 'lib', 'postgres.mjs')
  )) as typeof import('../../scripts/lib/postgres.mjs')
  const cluster = await privateCluster({ home: folder('cluster'), port: await freePort(), fresh: true, passing: true })
  const { command, args, cwd } = cluster.process
  let server: ChildProcess | null = null
  return {
    url: cluster.url,
    async start() {
      server = spawn(command, args, { cwd, stdio: 'ignore' })
      await until(async () => {
        const client = new pg.Client(cluster.url)
        client.on('error', () => undefined)
        return client.connect().then(
          () => client.end().then(() => true),
          () => false,
        )
      }, 'PostgreSQL to answer')
    },
    /** SIGQUIT stops at once: no checkpoint, open transactions are lost. */
    stop: (signal: 'SIGQUIT' | 'SIGINT') =>
      new Promise<void>((done) => {
        server!.once('exit', () => done())
        server!.kill(signal)
      }),
  }
}

import { existsSync, readFileSync } from 'node:fs'
import { hostname } from 'node:os'
import type pg from 'pg'
import { limited } from './database'

/** Who holds the lease: enough to tell, on the same machine, whether that process still lives. */
export interface Holder {
  host: string
  boot: string
  pid: number
  /** When the process began, in the system's own ticks: a number that is used again is another process. */
  began: string
}

/** A lease that nobody confirmed for so long may be taken over, ms by the database's clock. */
export const TAKE_OVER_MS = 7000

const readOr = (file: string) => {
  try {
    return readFileSync(file, 'utf8').trim()
  } catch {
    return ''
  }
}
/** Field 22 of /proc/PID/stat; the name before it may hold spaces. */
const beginOf = (pid: number) => readOr(`/proc/${pid}/stat`).split(') ').at(-1)?.split(' ')[19] ?? ''

export function thisProcess(): Holder {
  return { host: hostname(), boot: readOr('/proc/sys/kernel/random/boot_id'), pid: process.pid, began: beginOf(process.pid) }
}

/** Whether it ran on this machine and is certainly gone. */
function isGone(h: Holder, me: Holder): boolean {
  if (h.host !== me.host || h.boot === '' || me.boot === '') return false
  if (h.boot !== me.boot) return true
  return existsSync('/proc/self/stat') && beginOf(h.pid) !== h.began
}

/** The turn of the one engine that may write. Its number, the epoch, is the time of its beginning (ms) or later, rises with every turn and stands in every write. */
export class Lease {
  private readonly pool: pg.Pool
  epoch = 0

  constructor(
    url: string,
    private readonly me: Holder = thisProcess(),
  ) {
    this.pool = limited(url, { max: 2, silentMs: 3000, name: 'embrik engine lease' })
  }

  /** True: it is ours now, under a new epoch. False: another engine holds it and is there. Throws when the database is away. */
  async take(): Promise<boolean> {
    const client = await this.pool.connect()
    try {
      await client.query('begin')
      const found = await client.query<{ next: string; holder: Holder | null; stale: boolean }>(
        // Not merely one more: in a database that came back from a copy that one was another engine's, which may still run.
        `select greatest(l.epoch + 1, floor(extract(epoch from clock_timestamp()) * 1000)::bigint) as next,
           l.holder, p.at < clock_timestamp() - make_interval(secs => $1) as stale
         from engine_lease l, engine_pulse p for update of l`,
        [TAKE_OVER_MS / 1000],
      )
      const row = found.rows[0]!
      const free = row.holder === null || row.stale || isGone(row.holder, this.me)
      if (free) {
        const next = Number(row.next)
        await client.query('update engine_lease set epoch = $1, holder = $2', [next, JSON.stringify(this.me)])
        await client.query('update engine_pulse set at = clock_timestamp()')
        await client.query('commit')
        this.epoch = next
        return true
      }
      await client.query('rollback')
      return false
    } catch (e) {
      client.release(true)
      throw e
    } finally {
      release(client)
    }
  }

  /** True: it is still ours. False: another engine has taken over. Throws when the database is away. */
  async confirm(): Promise<boolean> {
    const r = await this.pool.query('update engine_pulse set at = clock_timestamp() where exists (select 1 from engine_lease where epoch = $1)', [
      this.epoch,
    ])
    return r.rowCount === 1
  }

  /** Lets another engine begin at once. */
  async release(): Promise<void> {
    await this.pool.query('update engine_lease set holder = null where epoch = $1', [this.epoch]).catch(() => undefined)
    await this.pool.end()
  }

  /** Ends without giving the lease back. */
  async end(): Promise<void> {
    await this.pool.end()
  }
}

/** Gives a client back that was not thrown away. */
function release(client: pg.PoolClient & { released?: boolean }): void {
  try {
    client.release()
  } catch {
    // It was thrown away when it failed.
  }
}

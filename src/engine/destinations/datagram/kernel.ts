import { readdir, readFile, readlink } from 'node:fs/promises'

/** A socket of datagrams, as Linux lists it in /proc/net/udp and udp6 (proc(5)). */
export interface Listed {
  port: number
  inode: string
  /** Octets that have come and were not read yet. */
  waiting: number
  /** Datagrams that came and were thrown away, since nobody read fast enough. */
  dropped: number
}

/** Reads the list; lines that are none are left out. */
export function listed(text: string): Listed[] {
  return text.split('\n').flatMap((line) => {
    const [, local, , , queues, , , , , inode, , , drops] = line.trim().split(/\s+/)
    const port = Number.parseInt(local?.split(':')[1] ?? '', 16)
    const waiting = Number.parseInt(queues?.split(':')[1] ?? '', 16)
    const dropped = Number(drops)
    return inode !== undefined && Number.isFinite(port) && Number.isFinite(waiting) && Number.isInteger(dropped)
      ? [{ port, inode, waiting, dropped }]
      : []
  })
}

/** Sockets of this process. */
async function ownInodes(): Promise<Set<string>> {
  const links = await Promise.all((await readdir('/proc/self/fd')).map((fd) => readlink(`/proc/self/fd/${fd}`).catch(() => '')))
  return new Set(links.flatMap((link) => /^socket:\[(\d+)\]$/.exec(link)?.[1] ?? []))
}

/**
 * What this machine says of the sockets of this process that hear on these ports: octets that wait to be read, and by socket how many
 * datagrams it threw away; null: it does not say.
 */
export async function heldFor(ports: ReadonlySet<number>): Promise<{ waiting: number; dropped: ReadonlyMap<string, number> } | null> {
  try {
    const [own, four, six] = await Promise.all([ownInodes(), readFile('/proc/net/udp', 'utf8'), readFile('/proc/net/udp6', 'utf8').catch(() => '')])
    const mine = [...listed(four), ...listed(six)].filter((s) => ports.has(s.port) && own.has(s.inode))
    return { waiting: mine.reduce((n, s) => n + s.waiting, 0), dropped: new Map(mine.map((s) => [s.inode, s.dropped])) }
  } catch {
    return null
  }
}

import { randomUUID } from 'node:crypto'
import { link, mkdir, open, readdir, readFile, realpath, rename, rm, stat } from 'node:fs/promises'
import { dirname, join, resolve, sep } from 'node:path'
import { type Failure, FailureError } from '~/contract/failure'
import { type Store, UNFINISHED } from './store'

/** Where folders of destinations lie; an engineer chooses one within, and whoever runs the installation chooses where that is. */
export const filesFolder = (env = process.env): string => resolve(env.EMBRIK_FILES_DIR ?? join('.embrik', 'files'))

const NAMES = 1000
/** Places that know no second name for a file. */
const NO_LINKS = new Set(['EPERM', 'ENOTSUP', 'EOPNOTSUPP', 'ENOSYS', 'EMLINK'])
const codeOf = (e: unknown): string => (e as { code?: string }).code ?? ''

/** A folder of this machine. Files appear under their names at once and whole: they are written beside, and synced before. */
export class FolderStore implements Store {
  private root = ''

  constructor(
    private readonly folder: string,
    /** Of whom what is unfinished is. */
    private readonly tag: string,
    private readonly under = filesFolder(),
  ) {}

  async begin(): Promise<void> {
    await mkdir(this.under, { recursive: true, mode: 0o750 })
    const top = await realpath(this.under)
    const path = resolve(top, this.folder)
    if (path !== top && !path.startsWith(top + sep)) throw new FailureError(outside(this.folder), 422)
    await mkdir(join(path, UNFINISHED), { recursive: true, mode: 0o750 })
    this.root = await realpath(path)
    // A link may lead anywhere.
    if (this.root !== top && !this.root.startsWith(top + sep)) throw new FailureError(outside(this.folder), 422)
  }

  async clear(): Promise<void> {
    for (const name of await readdir(join(this.root, UNFINISHED)))
      if (name.startsWith(this.tag)) await rm(join(this.root, UNFINISHED, name), { force: true })
  }

  async put(name: string, octets: Uint8Array): Promise<void> {
    const path = join(this.root, name)
    const aside = join(this.root, UNFINISHED, `${this.tag}-${randomUUID()}`)
    await this.folderFor(dirname(path))
    try {
      const file = await open(aside, 'wx', 0o640)
      try {
        await file.writeFile(octets)
        await file.sync()
      } finally {
        await file.close()
      }
      await this.name(aside, path, octets)
    } finally {
      await rm(aside, { force: true })
    }
    await synced(dirname(path))
  }

  /** Under its name, unless something else lies there already. */
  private async name(aside: string, path: string, octets: Uint8Array): Promise<void> {
    try {
      await link(aside, path)
    } catch (e) {
      if (codeOf(e) === 'EEXIST') {
        if (Buffer.compare(await readFile(path), octets) !== 0) throw new FailureError(another(path), 409)
      } else if (NO_LINKS.has(codeOf(e))) await rename(aside, path)
      else throw e
    }
  }

  /** Makes the folders that are missing, and sees that they stay: each is written down in the one above it. */
  private async folderFor(folder: string): Promise<void> {
    const made = await mkdir(folder, { recursive: true, mode: 0o750 })
    if (made !== undefined) for (let at = folder; at !== dirname(made); at = dirname(at)) await synced(dirname(at))
    const real = await realpath(folder)
    if (real !== this.root && !real.startsWith(this.root + sep)) throw new FailureError(outside(folder), 422)
  }

  async get(name: string): Promise<Uint8Array | null> {
    try {
      return await readFile(join(this.root, name))
    } catch (e) {
      if (codeOf(e) === 'ENOENT' || codeOf(e) === 'ENOTDIR') {
        // The folder itself may be away: then nothing is known of what it holds.
        await stat(join(this.root, UNFINISHED))
        return null
      }
      throw e
    }
  }

  async *list(folder: string): AsyncIterable<string[]> {
    await stat(join(this.root, UNFINISHED))
    const waiting = [folder.replace(/\/$/, '')]
    let names: string[] = []
    for (let at = waiting.pop(); at !== undefined; at = waiting.pop()) {
      const entries = await readdir(join(this.root, at), { withFileTypes: true }).catch((e: unknown) => {
        if (codeOf(e) === 'ENOENT') return []
        throw e
      })
      for (const entry of entries) {
        if (entry.name.startsWith('.')) continue
        const name = at === '' ? entry.name : `${at}/${entry.name}`
        if (entry.isDirectory()) waiting.push(name)
        else if (entry.isFile()) names.push(name)
      }
      if (names.length < NAMES) continue
      yield names
      names = []
    }
    yield names
  }

  /** Writes a file and takes it away again, to see whether that can be done. */
  async probe(folder: string, name: string): Promise<void> {
    const path = join(folder, name)
    await this.put(path, Buffer.from('A check: whether files can be written here. It may be deleted.\n'))
    await rm(join(this.root, path), { force: true })
  }

  close(): void {
    // Nothing stays open.
  }
}

/** What was written of a folder's names is on disk. */
async function synced(folder: string): Promise<void> {
  const handle = await open(folder, 'r')
  try {
    await handle.sync()
  } finally {
    await handle.close()
  }
}

const outside = (folder: string): Failure => ({
  code: 'file.outside',
  message: `${folder.slice(0, 200)} leads out of the files folder of this installation`,
  hint: 'Choose a folder within it; whoever runs the installation can move it (EMBRIK_FILES_DIR)',
  where: 'destination',
})

const another = (path: string): Failure => ({
  code: 'file.another',
  message: `Something else lies at ${path.slice(0, 300)} already`,
  hint: 'Two installations may write into one folder; take that file away',
  where: 'destination',
})

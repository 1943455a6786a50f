import { mkdir, readFile, rename, writeFile } from 'node:fs/promises'
import { join } from 'node:path'
import { HubAuthority, type Identity } from './authority'
import { type KeptUnit, newKey, usualLimits } from './units'

/** The unit that the demo speaks for at both hubs. */
export const demoUnit = 'works-edge'
/** The stream of data that it declared at the one that wants that. */
export const demoAlias = 'kiln'
/** Who may read the events of a hub. */
export const eventsReader = { user: 'events', password: 'clay-events-9' }

/** What a hub knows over a new start. */
export interface KeptHub {
  authority: Pick<Identity, 'certificate' | 'key'>
  units: KeptUnit[]
  /** What was handed out to the unit of the demo, where units come by a certificate. */
  kit: Pick<Identity, 'certificate' | 'key'> | null
}

export const hubName = (by: 'token' | 'certificate') => (by === 'token' ? 'tarn' : 'fell')
const fileOf = (folder: string, by: 'token' | 'certificate') => join(folder, 'hubs', `${hubName(by)}.json`)
const put = (file: string, kept: KeptHub, flag: 'w' | 'wx') => writeFile(file, `${JSON.stringify(kept, null, 2)}\n`, { mode: 0o600, flag })

/** A hub that knows one unit. */
async function fresh(by: 'token' | 'certificate'): Promise<KeptHub> {
  const name = hubName(by)
  const authority = await HubAuthority.make(`${name[0]!.toUpperCase()}${name.slice(1)} root`)
  const unit: KeptUnit = { name: demoUnit, enabled: true, keys: [newKey(), newKey()], certificates: [], aliases: [], limits: { ...usualLimits } }
  const kept = { authority: await authority.kept(), units: [unit], kit: null }
  if (by === 'token') return kept
  const { sha256, ...kit } = await authority.sign(demoUnit, 'client')
  unit.certificates.push(sha256)
  unit.aliases.push(demoAlias)
  return { ...kept, kit }
}

/** What a hub knew before, or what it knows at its first start; whoever asks first, all get the same. */
export async function keptHub(folder: string, by: 'token' | 'certificate'): Promise<KeptHub> {
  const file = fileOf(folder, by)
  const read = async () => JSON.parse(await readFile(file, 'utf8')) as KeptHub
  try {
    return await read()
  } catch (e) {
    if ((e as NodeJS.ErrnoException).code !== 'ENOENT') throw e
  }
  await mkdir(join(folder, 'hubs'), { recursive: true, mode: 0o700 })
  try {
    await put(file, await fresh(by), 'wx')
  } catch (e) {
    if ((e as NodeJS.ErrnoException).code !== 'EEXIST') throw e
  }
  return read()
}

/** Writes down what it knows now. */
export async function keepHub(folder: string, by: 'token' | 'certificate', kept: KeptHub): Promise<void> {
  const file = fileOf(folder, by)
  await put(`${file}.new`, kept, 'w')
  await rename(`${file}.new`, file)
}

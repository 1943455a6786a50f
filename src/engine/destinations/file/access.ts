import type { FileSettings } from '~/contract/destinations/file'
import type { OpenCredential } from '~/store/credential'
import type { Clock } from '../../clock/clock'
import { FolderStore } from './folder'
import { tagOf } from './names'
import { accessKeyOf, ObjectStore } from './objects'
import type { Store } from './store'

/** Settings with their credentials opened; for the driver only. */
export interface FileTarget {
  id: string | null
  settings: FileSettings
  authority: OpenCredential | null
  credential: OpenCredential | null
  witnessCredential: OpenCredential | null
}

/** Files that are written, or objects that are sent, at once. */
export const PARALLEL = 4

/** Where files go, in a word: what was told of one place says nothing of another. */
export const wayOf = ({ store, folder, url, bucket }: FileSettings): string => (store === 'folder' ? `/${folder}` : `${url} ${bucket}/${folder}`)

/** The place of a destination's files, for whoever writes or for whoever only reads. */
export function storeOf(target: FileTarget, who: 'sender' | 'witness', clock: Clock): Store {
  const { settings, authority, credential, witnessCredential } = target
  const tag = tagOf(target.id)
  if (settings.store === 'folder') return new FolderStore(settings.folder, tag)
  const key = accessKeyOf(who === 'sender' ? credential : (witnessCredential ?? credential))
  return new ObjectStore({ settings, authority, key, tag, answerMs: settings.ackS * 1000, parallel: PARALLEL }, clock)
}

/** What one user sees of the settings and credentials: with anything of it changed another connection is needed. */
export const userOf = (target: FileTarget, who: 'sender' | 'witness') => {
  const { store, folder, url, bucket, bucketInHost, region, idColumn } = target.settings
  const objects = store === 'objects'
  return {
    ...{ store, folder, idColumn },
    ...(objects && { url, bucket, bucketInHost, region, authority: target.authority?.certificate ?? null }),
    ...(objects && { key: accessKeyOf(who === 'sender' ? target.credential : (target.witnessCredential ?? target.credential)) }),
  }
}

import type { FileSettings } from '~/contract/destinations/file'
import { basicIso, basicIsoMs } from '~/core/value/iso-time'

/** A file of ours: of which place, when its first message was made (epoch ms), whose, and the positions in the outbox that it holds. */
export interface FileName {
  place: string
  at: number
  /** Of the destination. */
  tag: string
  first: number
  last: number
}

const ENDINGS: Readonly<Record<FileSettings['compression'], string>> = { none: '', gzip: '.gz', zstd: '.zst' }
const NAME = /^(.+)\.(\d{8}T\d{6}Z)\.([0-9a-z]{8})\.(\d{1,15})-(\d{1,15})\.(?:ndjson|csv|parquet)(?:\.gz|\.zst)?$/

/** Eight letters and digits that tell files of one destination from those of others; null: it is not stored yet. */
export const tagOf = (id: string | null): string => (id ?? '').replaceAll('-', '').slice(-8).padStart(8, '0').toLowerCase()

/** The end of all names with these settings: `'.ndjson.gz'`. Parquet compresses within. */
export const endingOf = ({ format, compression }: Pick<FileSettings, 'format' | 'compression'>): string =>
  `.${format}${format === 'parquet' ? '' : ENDINGS[compression]}`

/** `'lower-pit/kiln/zone-7.20261129T033226Z.1c1e2c52.120-480.ndjson'`: the same for the same messages, whoever writes them. */
export function nameOf({ place, at, tag, first, last }: FileName, ending: string): string {
  return `${place}.${basicIso(at)}.${tag}.${first}-${last}${ending}`
}

/** Null: it is none of Embrik's. */
export function readName(name: string): FileName | null {
  const m = NAME.exec(name)
  if (!m) return null
  const [, place = '', stamp = '', tag = '', first, last] = m
  return { place, at: basicIsoMs(stamp) ?? 0, tag, first: Number(first), last: Number(last) }
}

/** Whether this may be the path of files: no level is empty, hidden or leads out. */
export const isPlace = (place: string): boolean =>
  !/[\\\p{Cc}]/u.test(place) && place.split('/').every((level) => level.trim() !== '' && !level.startsWith('.'))

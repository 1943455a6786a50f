import { crc32 } from 'node:zlib'
import yauzl, { type Entry, type ZipFile } from 'yauzl'

/** What is taken of a kit: nobody hands over more than this for one destination. */
const ENTRIES_MOST = 200
const ENTRY_OCTETS = 2 << 20
const ALL_OCTETS = 8 << 20
/** Packed a thousand times smaller, nothing is a certificate. */
const RATIO_MOST = 200
const RATIO_FROM = 100_000

/** Thrown when a kit cannot be taken in; says why and what to do. */
export class KitError extends Error {
  constructor(
    message: string,
    readonly hint: string,
  ) {
    super(message)
  }
}

export const isZip = (octets: Uint8Array): boolean => octets[0] === 0x50 && octets[1] === 0x4b && (octets[2] === 3 || octets[2] === 5)

/** The files of a zip, held in memory only, within bounds that are looked at while it is unpacked and not as it claims. */
export async function unzip(octets: Uint8Array): Promise<{ name: string; octets: Uint8Array }[]> {
  const zip = await opened(octets)
  const files: { name: string; octets: Uint8Array }[] = []
  let all = 0
  return new Promise((done, failed) => {
    const fail = (e: unknown) => {
      zip.close()
      failed(e instanceof KitError ? e : damaged(e))
    }
    zip.on('error', fail)
    zip.on('end', () => done(files))
    zip.on('entry', (entry: Entry) => {
      if (entry.fileName.endsWith('/')) return zip.readEntry()
      demandBounds(entry, files.length, all)
        .then(() => contents(zip, entry))
        .then((read) => {
          all += read.length
          files.push({ name: entry.fileName, octets: read })
          zip.readEntry()
        })
        .catch(fail)
    })
    zip.readEntry()
  })
}

function opened(octets: Uint8Array): Promise<ZipFile> {
  return new Promise((done, failed) => {
    const buffer = Buffer.from(octets.buffer, octets.byteOffset, octets.byteLength)
    yauzl.fromBuffer(buffer, { lazyEntries: true, validateEntrySizes: true }, (e, zip) => (e ? failed(damaged(e)) : done(zip)))
  })
}

const damaged = (e: unknown) =>
  new KitError(`This zip cannot be read: ${e instanceof Error ? e.message : String(e)}`, 'Ask for it again, or unpack it and hand over its files')

async function demandBounds(entry: Entry, count: number, all: number): Promise<void> {
  const { uncompressedSize: size, compressedSize: packed, fileName: name } = entry
  if (entry.isEncrypted()) throw new KitError(`${name} is locked in the zip`, 'Unpack it with its pass phrase and hand over its files')
  if (count >= ENTRIES_MOST) throw new KitError(`The zip holds more than ${ENTRIES_MOST} files`, 'Hand over only those for this destination')
  if (size > ENTRY_OCTETS) throw new KitError(`${name} has ${Math.round(size / 1e6)} MB`, 'No credential is that large: hand over the others')
  if (all + size > ALL_OCTETS)
    throw new KitError(`The zip holds more than ${ALL_OCTETS >> 20} MB`, 'Hand over only those files that are for this destination')
  if (size > RATIO_FROM && size > packed * RATIO_MOST)
    throw new KitError(`${name} is packed ${Math.round(size / packed)} times smaller`, 'No credential is: hand over the others')
}

function contents(zip: ZipFile, entry: Entry): Promise<Uint8Array> {
  return new Promise((done, failed) => {
    zip.openReadStream(entry, (e, stream) => {
      if (e) return failed(e)
      const chunks: Buffer[] = []
      stream.on('data', (chunk: Buffer) => chunks.push(chunk))
      stream.on('error', failed)
      stream.on('end', () => {
        const whole = Buffer.concat(chunks)
        if (crc32(whole) !== entry.crc32) return failed(new KitError(`${entry.fileName} is damaged in the zip`, 'Ask for it again'))
        done(new Uint8Array(whole))
      })
    })
  })
}

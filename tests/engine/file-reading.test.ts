import { mkdirSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterEach, expect, it } from 'vitest'
import { FileSettings } from '~/contract/destinations/file'
import { realClock } from '~/engine/clock/real-clock'
import type { FarSighting } from '~/engine/destinations/far-end'
import { storeOf } from '~/engine/destinations/file/access'
import { FileFarEnd } from '~/engine/destinations/file/far-end'
import { Finished } from '~/engine/destinations/file/finished'
import { nameOf, tagOf } from '~/engine/destinations/file/names'
import { folder, until } from './support'

// How the witness of files goes through them, one after the other and over starts, whatever the clock in their names says.

const ID = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'
const HOUR = 3_600_000
const THEN = Date.UTC(2026, 10, 30, 12)
const ends: (() => void)[] = []
afterEach(() => {
  for (const end of ends.splice(0)) end()
})

function lake() {
  const top = folder('files')
  process.env.EMBRIK_FILES_DIR = top
  const settings = FileSettings.parse({
    store: 'folder',
    folder: 'lake',
    format: 'ndjson',
    ackS: 5,
    ageS: 0.3,
    witness: true,
    lookEveryS: 5,
    outboxMb: 50,
    retryMs: 200,
  })
  const target = { id: ID, settings, authority: null, credential: null, witnessCredential: null }
  const name = (first: number, last: number, at: number, place = 'kiln/zone-1') => nameOf({ place, at, tag: tagOf(ID), first, last }, '.ndjson')
  /** A finished file of one place, with a message for each position. */
  const lay = (first: number, last: number, at: number, place = 'kiln/zone-1') => {
    const its = name(first, last, at, place)
    const rows = Array.from({ length: last - first + 1 }, (_, i) => JSON.stringify({ n: first + i, embrik_id: `inst.1.${first + i}` }))
    mkdirSync(join(top, 'lake', 'kiln'), { recursive: true })
    writeFileSync(join(top, 'lake', its), `${rows.join('\n')}\n`)
    return its
  }
  /** A witness that goes on where another was; what it counts is safe at once. */
  const witness = async (from: Uint8Array | null, finished = new Finished()) => {
    const seen: string[] = []
    const far: FileFarEnd = new FileFarEnd(
      ID,
      () => storeOf(target, 'witness', realClock),
      settings,
      finished,
      {
        sighting: (s: FarSighting) => {
          seen.push(s.id!)
          far.counted(s.token)
          far.safe()
        },
        acquaintance: () => null,
        lost: () => undefined,
        hurry: () => undefined,
        damaged: (what, why) => seen.push(`${what}: ${why}`),
        unseen: () => undefined,
        refused: () => undefined,
      },
      realClock,
    )
    ends.push(() => far.close())
    far.restore(from)
    far.prepare()
    await far.watch(['/kiln/'])
    await far.connect()
    const numbers = () => seen.map((id) => Number(id.split('.')[2])).sort((a, b) => a - b)
    return { far, numbers, finished }
  }
  return { lay, witness, name }
}

const range = (first: number, last: number) => Array.from({ length: last - first + 1 }, (_, i) => first + i)

it('reads all that an earlier run left unread, in whatever order the clock that was set names it', async () => {
  const { lay, witness } = lake()
  const first = await witness(null)
  lay(1, 5, THEN)
  await until(() => first.numbers().length === 5, 'the first file', 30)
  const position = first.far.position()!
  first.far.close()
  // Made with the clock an hour ahead, then with the right one: nobody has read them.
  lay(6, 10, THEN + HOUR)
  lay(11, 15, THEN + 5000)
  lay(16, 20, THEN - HOUR)
  const second = await witness(position)
  await until(() => second.numbers().length >= 15, 'those that were left', 30)
  expect(second.numbers()).toEqual(range(6, 20))
  const later = second.far.position()!
  second.far.close()
  const third = await witness(later)
  lay(21, 22, THEN + 6000)
  await until(() => third.numbers().length >= 2, 'what is new', 30)
  expect(third.numbers()).toEqual([21, 22])
})

it('reads what was left before what is told of as finished now', async () => {
  const { lay, witness } = lake()
  const first = await witness(null)
  lay(1, 5, THEN)
  await until(() => first.numbers().length === 5, 'the first file', 30)
  const position = first.far.position()!
  first.far.close()
  lay(6, 10, THEN - 1000)
  const finished = new Finished()
  finished.add(lay(11, 15, THEN + 2000))
  const second = await witness(position, finished)
  await until(() => second.numbers().length >= 10, 'both', 30)
  expect(second.numbers()).toEqual(range(6, 15))
})

it('a file that an earlier run read, and that is told of as finished once more since its answer was lost, is the same file', async () => {
  const { lay, witness } = lake()
  const first = await witness(null)
  const name = lay(1, 5, THEN)
  await until(() => first.numbers().length === 5, 'the first file', 30)
  const position = first.far.position()!
  first.far.close()
  const finished = new Finished()
  finished.add(name)
  const second = await witness(position, finished)
  finished.add(lay(6, 7, THEN + 1000))
  await until(() => second.numbers().length >= 2, 'what is new', 30)
  expect(second.numbers()).toEqual([6, 7])
})

it('of two files that end with the same message both are read: that message is there twice', async () => {
  const { lay, witness } = lake()
  const first = await witness(null)
  lay(1, 2, THEN)
  await until(() => first.numbers().length === 2, 'the first file', 30)
  const position = first.far.position()!
  first.far.close()
  lay(3, 8, THEN + 1000)
  lay(6, 8, THEN + 2000)
  const second = await witness(position)
  await until(() => second.numbers().length >= 9, 'both', 30)
  expect(second.numbers()).toEqual([3, 4, 5, 6, 6, 7, 7, 8, 8])
})

it('a file that is not to be seen yet when it is told of, and is come upon after a lost link, is read once', async () => {
  const { lay, witness, name } = lake()
  const { far, numbers, finished } = await witness(null)
  lay(6, 7, THEN + 1000)
  await until(() => numbers().length === 2, 'what is there at first', 30)
  // Told of, and not there yet: another server serves the folder.
  finished.add(name(1, 5, THEN))
  finished.add(lay(8, 9, THEN + 2000))
  await until(() => numbers().length === 4, 'the one that is there', 30)
  far.close()
  lay(1, 5, THEN)
  await far.connect()
  await until(() => numbers().length >= 9, 'the other one', 30)
  finished.add(lay(10, 11, THEN + 3000))
  await until(() => numbers().includes(11), 'what is new', 30)
  expect(numbers()).toEqual(range(1, 11))
})

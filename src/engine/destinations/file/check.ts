import { randomUUID } from 'node:crypto'
import { statfs } from 'node:fs/promises'
import { webAddress } from '~/contract/destinations/http'
import { type CheckStep, FailureError, fail } from '~/contract/failure'
import { httpDate } from '~/core/value/http-date'
import { realClock } from '../../clock/real-clock'
import { reachSteps, runSteps, type StepPlan } from '../../net/steps'
import { tlsGreeting } from '../../net/tls-greeting'
import { failureOfWeb } from '../../net/web-failure'
import type { Planned } from '../driver'
import { type FileTarget, storeOf, wayOf } from './access'
import { meaningOf } from './answers'
import { type FolderStore, filesFolder } from './folder'
import { isPlace, readName, tagOf } from './names'
import type { ObjectStore } from './objects'
import type { Store } from './store'

/** A check waits so long for an answer at most, s. */
const ANSWER_S = 8
const OFF_BY_MS = 2000

async function withStore<T, S extends Store>(target: FileTarget, who: 'sender' | 'witness', work: (store: S) => Promise<T>): Promise<T> {
  const store = storeOf({ ...target, settings: { ...target.settings, ackS: ANSWER_S } }, who, realClock)
  try {
    return await work(store as unknown as S)
  } finally {
    store.close()
  }
}

const amount = (octets: number): string => (octets >= 1e9 ? `${(octets / 1e9).toFixed(1)} GB` : `${Math.floor(octets / 1e6)} MB`)

/** How far the clock of the store is from ours, in words; empty: it tells none, or is right to two seconds. */
function clockWords(date: string): string {
  const off = httpDate(date) - realClock.wall()
  return !Number.isFinite(off) || Math.abs(off) <= OFF_BY_MS
    ? ''
    : `; its clock is ${Math.round(Math.abs(off) / 1000)} s ${off > 0 ? 'ahead' : 'behind'}`
}

/** Folders of the publications, at which it is tried. */
const foldersOf = ({ filters }: Planned): string[] => {
  const folders = [...new Set(filters.map((f) => f.replace(/^\//, '')))]
  return folders.length === 0 ? [''] : folders.slice(0, 20)
}

function folderSteps(target: FileTarget, planned: Planned): StepPlan[] {
  const { settings: s } = target
  return [
    {
      key: 'folder',
      label: 'Folder',
      run: () =>
        withStore<string, FolderStore>(target, 'sender', async (store) => {
          await store.begin()
          const { bavail, bsize } = await statfs(filesFolder())
          return `${s.folder} in ${filesFolder()}, ${amount(bavail * bsize)} free`
        }),
    },
    {
      key: 'write',
      label: 'Write',
      run: () =>
        withStore<string, FolderStore>(target, 'sender', async (store) => {
          await store.begin()
          for (const folder of foldersOf(planned)) await store.probe(folder, `embrik-check-${randomUUID()}`)
          const where = foldersOf(planned)
          return `a file can be written and named ${where.length === 1 ? `under /${where[0]}` : `in ${where.length} folders`}; it is taken away again`
        }),
    },
  ]
}

function objectSteps(target: FileTarget, planned: Planned): StepPlan[] {
  const { settings: s } = target
  const base = webAddress(s.url)!
  const at = s.bucketInHost ? new URL(`${base.protocol}//${s.bucket}.${base.host}`) : base
  const host = at.hostname.replace(/^\[|\]$/g, '')
  const secure = base.protocol === 'https:'
  const port = Number(base.port || (secure ? 443 : 80))
  return [
    ...reachSteps(host, port, 'destination'),
    ...(secure
      ? [
          {
            key: 'tls',
            label: 'TLS',
            run: () => tlsGreeting(host, port, target.authority?.certificate ?? null),
            explain: (e: unknown) => failureOfWeb(e, at),
          },
        ]
      : []),
    {
      key: 'bucket',
      label: 'Bucket',
      run: () =>
        withStore<string, ObjectStore>(target, 'sender', async (store) => {
          const began = realClock.mono()
          await store.begin()
          const ms = Math.max(1, Math.round(realClock.mono() - began))
          const date = await store.date().catch(() => '')
          return `${s.bucket} answers in ${ms} ms${secure ? '' : '; without TLS: anybody in between can read what is kept'}${clockWords(date)}`
        }),
    },
    {
      key: 'write',
      label: 'Write',
      run: () =>
        withStore<string, ObjectStore>(target, 'sender', async (store) => {
          const folders = foldersOf(planned)
          for (const folder of folders) await store.probe(folder)
          return `objects can be put ${folders.length === 1 ? `under /${folders[0]}` : `in ${folders.length} folders`}; the one that was is taken away again`
        }),
    },
  ]
}

async function readsBack(target: FileTarget, planned: Planned): Promise<string> {
  return withStore(target, 'witness', async (store) => {
    await store.begin()
    let ours = 0
    let last = ''
    for (const folder of foldersOf(planned))
      for await (const names of store.list(folder)) {
        for (const name of names)
          if (readName(name)?.tag === tagOf(target.id)) {
            ours++
            last = name
          }
        if (ours > 1000) break
      }
    if (last !== '' && (await store.get(last)) === null)
      throw fail(
        502,
        'file.gone',
        `${last} is listed and cannot be read`,
        'Look at the rights of the witness, and at what else uses this place',
        'witness',
      )
    return ours === 0
      ? 'may list what is there; no file of this destination yet'
      : `${ours > 1000 ? 'more than 1000' : ours} files of this destination, read again`
  })
}

/** Tries everything in order, the witness too; what it writes it takes away again, and it saves nothing. */
export async function* checkFile(target: FileTarget, planned: Planned): AsyncGenerator<CheckStep> {
  const { settings: s } = target
  const where = wayOf(s)
  const bad = planned.sends.find(({ topic }) => !isPlace(topic))
  const steps: StepPlan[] = [
    ...(s.store === 'folder' ? folderSteps(target, planned) : objectSteps(target, planned)),
    ...(bad ? [{ key: 'paths', label: 'Paths', run: () => Promise.reject(noPath(bad.topic)) }] : []),
    ...(s.witness
      ? [
          {
            key: 'witness',
            label: 'Witness',
            run: () => readsBack(target, planned).catch(ofWitness),
            explain: (e: unknown) => ({ ...meaningOf(e, where).failure, where: 'witness' as const }),
          },
        ]
      : []),
  ]
  yield* runSteps(steps, (e) => meaningOf(e, where).failure)
}

function ofWitness(e: unknown): never {
  throw e instanceof FailureError ? new FailureError({ ...e.failure, where: 'witness' }, e.status) : e
}

const noPath = (topic: string) =>
  fail(422, 'file.path', `${topic.slice(0, 200)} is no path of a file`, 'Change the template of its publication', 'destination')

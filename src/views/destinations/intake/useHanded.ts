import { useEffect, useRef, useState } from 'react'
import type { Failure } from '~/contract/failure'
import type { HandedOver, TakenIn, WordRole } from '~/contract/intake'
import { call, failureIn } from '../../app/api'

/** What is typed is looked at when it has rested so long, ms. */
const RESTS_MS = 400
const FILE_MOST = 6_000_000

export interface HandedFile {
  name: string
  content: string
}

/** What was handed over before the sheet opened. */
export interface Begun {
  files?: readonly File[]
  /** Files that were read already. */
  read?: readonly HandedFile[]
  text?: string
}

/** What somebody hands over in this sheet, and what was made of it: looked at anew whenever it changes, nothing of it kept by that. */
export function useHanded(begun: Begun = {}, maker?: HandedOver['maker']) {
  const [files, setFiles] = useState<readonly HandedFile[]>(begun.read ?? [])
  const [text, setText] = useState(begun.text ?? '')
  const [phrases, setPhrases] = useState<readonly string[]>([])
  const [roles, setRoles] = useState<Readonly<Record<string, WordRole>>>({})
  const [taken, setTaken] = useState<TakenIn | null>(null)
  const [failure, setFailure] = useState<Failure | null>(null)
  const [busy, setBusy] = useState(false)
  const [tries, setTries] = useState(0)
  const round = useRef(0)
  const anything = files.length > 0 || text.trim() !== ''

  // biome-ignore lint/correctness/useExhaustiveDependencies: each try looks at the same once more; how tokens are made stays while the sheet is open
  useEffect(() => {
    const mine = ++round.current
    if (!anything) {
      setTaken(null)
      setFailure(null)
      setBusy(false)
      return
    }
    setBusy(true)
    const timer = setTimeout(async () => {
      try {
        const found = await call('lookAtHanded', { body: { files: [...files], text, phrases: [...phrases], roles, ...(maker && { maker }) } })
        if (mine !== round.current) return
        setTaken(found)
        setFailure(null)
      } catch (e) {
        if (mine === round.current) setFailure(failureIn(e))
      } finally {
        if (mine === round.current) setBusy(false)
      }
    }, RESTS_MS)
    return () => clearTimeout(timer)
  }, [files, text, phrases, roles, anything, tries])

  /** Takes files beside those that are there; one of the same name takes its place. */
  const add = async (list: Iterable<File> | null | undefined): Promise<void> => {
    const picked = [...(list ?? [])]
    const large = picked.find((f) => f.size > FILE_MOST)
    if (large) {
      const message = `${large.name} has ${Math.round(large.size / 1e6)} MB`
      return setFailure({ code: 'intake.large', message, hint: 'No credential is that large: choose the others', where: 'credential' })
    }
    const read = await Promise.all(picked.map(async (f) => ({ name: f.name, content: base64(new Uint8Array(await f.arrayBuffer())) })))
    setFiles((old) => [...old.filter((f) => !read.some((r) => r.name === f.name)), ...read])
  }
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the sheet opens
  useEffect(() => void add(begun.files), [])
  const handed: HandedOver = { files: [...files], text, phrases: [...phrases], roles, ...(maker && { maker }) }
  return {
    ...{ handed, taken, failure, busy, anything, add, setText },
    /** Counts what was looked at: another number, other things. */
    round: round.current,
    again: () => setTries((n) => n + 1),
    drop: (name: string) => setFiles((old) => old.filter((f) => f.name !== name)),
    tryPhrase: (phrase: string) => setPhrases((old) => (phrase === '' || old.includes(phrase) ? old : [...old, phrase])),
    correct: (word: string, role: WordRole) => setRoles((old) => ({ ...old, [word]: role })),
  }
}

function base64(octets: Uint8Array): string {
  let text = ''
  for (let at = 0; at < octets.length; at += 8192) text += String.fromCharCode(...octets.subarray(at, at + 8192))
  return btoa(text)
}

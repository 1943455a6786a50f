import { useSyncExternalStore } from 'react'
import { toast } from 'sonner'
import { FailureError } from '~/contract/failure'
import { countText } from '~/ui/time'
import { failureIn } from '../app/api'

export interface Progress {
  done: number
  total: number
}

/** Something that was done, with the edit that takes it back. */
interface Done<E> {
  label: string
  undo: E
}

interface Stacks<E> {
  undo: readonly Done<E>[]
  redo: readonly Done<E>[]
  busy: boolean
}

const KEPT = 100

/** How one kind of thing is edited. */
interface How<E, R extends { undo: E }> {
  /** Sends an edit; rejects with a FailureError, or an AbortError when it was stopped, with nothing saved. */
  send(edit: E, each?: (p: Progress) => void, signal?: AbortSignal): Promise<R>
  /** Puts what an edit did into what the page has. */
  merge(result: R): void
  /** The same edit for things as the last edit from here left them. */
  current(edit: E): E
  rows(edit: E): number
}

/** Edits of one kind of thing on this page: all or none each, and each can be taken back and done again. */
export class Edits<E, R extends { undo: E }> {
  private stacks: Stacks<E> = { undo: [], redo: [], busy: false }
  private readonly listeners = new Set<() => void>()
  /** One edit after the other: what is asked for while one is under way waits for it. */
  private last: Promise<unknown> = Promise.resolve()

  constructor(private readonly how: How<E, R>) {}

  private set(next: Partial<Stacks<E>>): void {
    this.stacks = { ...this.stacks, ...next }
    for (const l of this.listeners) l()
  }

  private readonly subscribe = (l: () => void) => {
    this.listeners.add(l)
    return () => {
      this.listeners.delete(l)
    }
  }

  private readonly present = () => this.stacks

  /** What can be undone and redone now. */
  useStacks = (): Stacks<E> => useSyncExternalStore(this.subscribe, this.present, this.present)

  private inTurn<T>(work: () => Promise<T>): Promise<T> {
    const mine = this.last.then(work)
    this.last = mine.catch(() => undefined)
    return mine
  }

  /** Does an edit and remembers how to take it back. */
  apply(edit: E, label: string, each?: (p: Progress) => void, signal?: AbortSignal): Promise<R> {
    return this.inTurn(() => this.run(edit, label, each, signal))
  }

  private async run(edit: E, label: string, each?: (p: Progress) => void, signal?: AbortSignal): Promise<R> {
    this.set({ busy: true })
    try {
      const result = await this.how.send(edit, each, signal)
      this.how.merge(result)
      this.set({ undo: [...this.stacks.undo.slice(1 - KEPT), { label, undo: result.undo }], redo: [] })
      return result
    } finally {
      this.set({ busy: false })
    }
  }

  /** As `apply`, and tells what was done with a way back, or what went wrong. Null: it was not done. */
  async tell(edit: E, label: string): Promise<R | null> {
    try {
      const result = await this.apply(edit, label)
      toast(label, { action: { label: 'Undo', onClick: () => void this.undo() } })
      return result
    } catch (e) {
      toast.error(failureIn(e).message, { description: failureIn(e).hint })
      return null
    }
  }

  private async step(from: 'undo' | 'redo'): Promise<void> {
    const done = this.stacks[from].at(-1)
    if (!done) return
    const to = from === 'undo' ? 'redo' : 'undo'
    this.set({ busy: true, [from]: this.stacks[from].slice(0, -1) })
    const id = this.how.rows(done.undo) > 2000 ? toast.loading(`${from === 'undo' ? 'Taking back' : 'Doing again'}: ${done.label}`) : undefined
    try {
      const result = await this.how.send(this.how.current(done.undo), (p) => {
        if (id !== undefined) toast.loading(`${done.label}: ${countText(p.done)} of ${countText(p.total)}`, { id })
      })
      this.how.merge(result)
      this.set({ [to]: [...this.stacks[to], { label: done.label, undo: result.undo }] })
      toast(`${from === 'undo' ? 'Taken back' : 'Done again'}: ${done.label}`, {
        id,
        ...(from === 'undo' && { action: { label: 'Redo', onClick: () => void this.redo() } }),
      })
    } catch (e) {
      const f = failureIn(e)
      // Tried again it may work when only the line was down; what was refused stays refused.
      if (e instanceof FailureError && e.status >= 500) this.set({ [from]: [...this.stacks[from], done] })
      toast.error(`${f.message}, so this cannot be ${from === 'undo' ? 'taken back' : 'done again'}: ${done.label}`, { id, description: f.hint })
    } finally {
      this.set({ busy: false })
    }
  }

  readonly undo = () => this.inTurn(() => this.step('undo'))
  readonly redo = () => this.inTurn(() => this.step('redo'))
}

/** What the buttons and keys need of any kind of edits. */
export type AnyEdits = Pick<Edits<unknown, { undo: unknown }>, 'undo' | 'redo'> & {
  useStacks(): { undo: readonly { label: string }[]; redo: readonly { label: string }[]; busy: boolean }
}

/** Where files are kept, whole or not at all; names have levels with slashes between. Everything rejects with what the place said. */
export interface Store {
  /** Looks whether it is there and may be used. */
  begin(): Promise<void>
  /** Clears away what an earlier run began and never finished: for the one who writes, before it does. */
  clear(): Promise<void>
  /** Writes a file; resolves when it is there for good under its name, whatever happens to this machine. The same name again is the same file. */
  put(name: string, octets: Uint8Array): Promise<void>
  /** Null: it is not there. */
  get(name: string): Promise<Uint8Array | null>
  /** Names of all files under a folder (`''`: all), some at a time, in no order that is known. */
  list(folder: string): AsyncIterable<string[]>
  close(): void
}

/** Something that is begun and not finished has this in its name. */
export const UNFINISHED = '.unfinished'

/** What a node keeps beside the database: with it, a database that came back from an older copy is known as such. */
export interface HighWater {
  /** The last flush that was written. */
  flush: number
  deliveries: {
    delivery: number
    /** The highest number that this run saw in an outbox; 0: none. */
    through: number
    /** Numbers up to this one may have been given since; `through`, when the node ended well. */
    reserved: number
  }[]
}

/** Where it is kept. Neither waits, and neither throws: what cannot be read or written is as if it were not there. */
export interface HighWaterStore {
  read(): HighWater | null
  write(h: HighWater): void
}

/** At least so many numbers are reserved ahead. */
export const RESERVE_LEAST = 50
/** As many times what was given since it was noted last. */
export const RESERVE_TIMES = 4

/** For what has no memory of its own beside the database. */
export const noHighWater: HighWaterStore = { read: () => null, write: () => undefined }

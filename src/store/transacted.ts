import { setTimeout as wait } from 'node:timers/promises'
import type { Transaction } from 'kysely'
import type { Db } from './database'
import type { Tables } from './tables'

/** Two waited for each other, or met in another way: PostgreSQL took back one of them whole (Appendix A, class 40). */
const MET = new Set(['40001', '40P01'])
const TRIES = 6

/** Does all of it or nothing, and does it again when PostgreSQL took it back because of somebody else's: nobody is told of that. */
export async function transacted<T>(db: Db, work: (tx: Transaction<Tables>) => Promise<T>): Promise<T> {
  for (let tries = 1; ; tries++) {
    try {
      return await db.transaction().execute(work)
    } catch (e) {
      if (tries === TRIES || !MET.has((e as { code?: string } | null)?.code ?? '')) throw e
      await wait(Math.random() * 50 * tries)
    }
  }
}

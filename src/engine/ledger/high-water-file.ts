import { readFileSync, renameSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { z } from 'zod'
import type { HighWater, HighWaterStore } from '~/core/delivery/high-water'
import { log, wordsOf } from '../log'

const whole = z.number().int().min(0)
const Noted = z.object({
  flush: whole,
  deliveries: z.array(z.object({ delivery: whole, through: whole, reserved: whole })),
})

/** A file in the work folder of a node, of one installation. It is small, and written whole, once a second at most in quiet times. */
export class HighWaterFile implements HighWaterStore {
  private failed = false

  /** `installation` is asked for when it is needed: it stands in the database. */
  constructor(
    private readonly folder: string,
    private readonly installation: () => string,
    /** Whether this engine may write at all now: another one may share the folder. */
    private readonly may: () => boolean,
  ) {}

  private get path(): string {
    return join(this.folder, `numbers-${this.installation()}.json`)
  }

  read(): HighWater | null {
    try {
      return Noted.parse(JSON.parse(readFileSync(this.path, 'utf8')))
    } catch (e) {
      if ((e as { code?: string }).code !== 'ENOENT') log('warn', 'ledger', `${this.path} cannot be read, and counts as not there: ${wordsOf(e)}`)
      return null
    }
  }

  write(h: HighWater): void {
    if (!this.may()) return
    try {
      writeFileSync(`${this.path}.new`, JSON.stringify(h))
      renameSync(`${this.path}.new`, this.path)
      this.failed = false
    } catch (e) {
      if (!this.failed) log('warn', 'ledger', `${this.path} cannot be written: ${wordsOf(e)}; a restored database would not be noticed`)
      this.failed = true
    }
  }
}

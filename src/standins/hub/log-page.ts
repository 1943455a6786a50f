/** What a hub tells of what it did not take. */
export interface HubLog {
  /** Epoch ms. */
  at: number
  unit: string
  code: 'unknown-unit' | 'disabled' | 'user' | 'token' | 'certificate' | 'topic' | 'retained' | 'qos' | 'size' | 'alias' | 'quota' | 'rate'
  words: string
  topic: string
}

const KEPT = 5000

/** The last of them, the newest first. */
export class LogPage {
  private rows: HubLog[] = []

  add(row: Omit<HubLog, 'at'>): void {
    this.rows.unshift({ at: Date.now(), ...row })
    if (this.rows.length > KEPT * 1.25) this.rows.length = KEPT
  }

  /** Of one unit, or of all. */
  list(unit: string | null = null, most = 200): HubLog[] {
    return (unit === null ? this.rows : this.rows.filter((r) => r.unit === unit)).slice(0, most)
  }
}

import { Cron } from 'croner'

/** Longest text of a schedule, characters. */
const TEXT_MOST = 200

/** Times by a cron text in a time zone: minute hour day month weekday, with seconds before them where there are six fields. */
export class Schedule {
  private constructor(private readonly cron: Cron) {}

  /** Throws what is wrong, in words. `zone` is a name of the IANA time zone database. */
  static of(text: string, zone: string): Schedule {
    const fields = text.trim().split(/\s+/)
    if (text.length > TEXT_MOST) throw new Error(`At most ${TEXT_MOST} characters`)
    if (!text.trim().startsWith('@') && fields.length !== 5 && fields.length !== 6)
      throw new Error('Five fields: minute, hour, day of the month, month, day of the week; six with seconds before them')
    if (!isZone(zone)) throw new Error(`${zone || 'Nothing'} is no time zone: like Europe/Berlin, or UTC`)
    let cron: Cron
    try {
      cron = new Cron(text.trim(), { timezone: zone, paused: true })
    } catch (e) {
      throw new Error((e instanceof Error ? e.message : String(e)).replace(/^\w+: /, ''))
    }
    const schedule = new Schedule(cron)
    if (schedule.next(0) === null) throw new Error('It never comes')
    return schedule
  }

  /** The first time after that moment, epoch ms; null: none comes any more. */
  next(after: number): number | null {
    return this.cron.nextRun(new Date(after))?.getTime() ?? null
  }

  /** The next times after that moment, epoch ms. */
  nextOf(count: number, after: number): number[] {
    const out: number[] = []
    for (let at = this.next(after); at !== null && out.length < count; at = this.next(at)) out.push(at)
    return out
  }
}

export function isZone(zone: string): boolean {
  try {
    new Intl.DateTimeFormat('en', { timeZone: zone })
    return zone !== ''
  } catch {
    return false
  }
}

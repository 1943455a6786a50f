import type { Pace, PublicationDeadband, Trigger } from '~/contract/trigger'
import { speaksFirst } from '~/contract/trigger'

/** A span in the largest unit in which it is whole. */
export function spanWords(seconds: number): string {
  if (!Number.isFinite(seconds)) return '? s'
  for (const [size, unit] of [
    [86_400, 'd'],
    [3600, 'h'],
    [60, 'min'],
  ] as const)
    if (seconds >= size && seconds % size === 0) return `${seconds / size} ${unit}`
  return `${seconds} s`
}

function deadbandWords(deadband: PublicationDeadband | undefined): string {
  if (!deadband) return "beyond each tag's deadband"
  const amount = deadband.kind === 'absolute' ? deadband.size : deadband.percent
  if (amount === 0) return 'of anything'
  if (deadband.kind === 'absolute') return `beyond ${amount} in its unit`
  return `beyond ${amount} % of ${deadband.kind === 'range' ? 'its range' : 'the value sent last'}`
}

/** When it speaks, in one line. */
export function triggerWords(trigger: Trigger, rows = false): string {
  switch (trigger.kind) {
    case 'change':
      return rows ? 'whenever a row is another' : `on change ${deadbandWords(trigger.deadband)}`
    case 'every':
      return `every ${spanWords(trigger.seconds)}${trigger.aligned ? ', on the clock' : ''}${trigger.aligned && trigger.phaseS ? ` and ${spanWords(trigger.phaseS)}` : ''}`
    case 'when': {
      const held = trigger.holdS ? ` for ${spanWords(trigger.holdS)}` : ''
      const over = trigger.until ? `, until ${trigger.until}` : ''
      return trigger.on === 'begin'
        ? `once ${trigger.condition || '...'} holds${held}${over}`
        : `on change while ${trigger.condition || '...'} holds${held}${over}`
    }
    case 'schedule':
      return `at ${trigger.cron} in ${trigger.zone}`
    case 'event':
      if (trigger.of === 'value') return `whenever ${trigger.member ?? 'a value'} comes in`
      return trigger.of === 'record' ? 'whenever a record changes' : 'once for each equipment that joins'
    case 'hand':
      return 'by hand only'
  }
}

/** What lies on top of it; empty: nothing. */
export function paceWords(trigger: Trigger, pace: Pace | undefined): string {
  const first = pace?.first === undefined || pace.first === speaksFirst(trigger, undefined) ? '' : pace.first ? 'at first too' : 'not at first'
  return [
    pace?.mostS === undefined ? '' : `at most every ${spanWords(pace.mostS)}`,
    pace?.leastS === undefined ? '' : `at least every ${spanWords(pace.leastS)}`,
    first,
  ]
    .filter(Boolean)
    .join(', ')
}

/** As a kind of trigger begins. */
export function freshTrigger(kind: Trigger['kind'], zone: string): Trigger {
  switch (kind) {
    case 'every':
      return { kind, seconds: 10 }
    case 'when':
      return { kind, condition: '', on: 'begin' }
    case 'event':
      return { kind, of: 'value' }
    case 'schedule':
      return { kind, cron: '0 6 * * *', zone }
    default:
      return { kind }
  }
}

/** Columns that the source takes up as soon as they are saved. */
const atOnce = new Set(['address', 'rate_ms', 'group', 'raw_low', 'raw_high', 'scaled_low', 'scaled_high', 'clamp', 'initial', 'hold'])
/** Columns that a go-live freezes. */
const frozen = new Set(['name', 'type', 'unit', 'low', 'high', 'deadband', 'description'])
/** Columns that nobody outside hears of. */
const inside = new Set([
  'format',
  'access',
  'chart_low',
  'chart_high',
  'chart_line',
  'history',
  'history_deadband',
  'history_min_ms',
  'history_max_ms',
])

export const liveAtOnce = (columns: readonly string[]) => columns.some((c) => atOnce.has(c))
export const waitsForGoLive = (columns: readonly string[]) => columns.some((c) => frozen.has(c))
/** Whether nothing but what is seen here changes. */
export const onlyInside = (columns: readonly string[]) => columns.every((c) => inside.has(c))

import { toast } from 'sonner'
import type { Tag } from '~/contract/tag'
import { columnIndex, type Surroundings } from '~/core/tag/columns'
import { flatten } from '~/core/tag/flat'
import { isSeenKey, type Seen, seenIn, seenText } from '~/core/tag/seen'
import { writeTable } from '~/core/tag/sheet'
import type { StateIndex } from '~/core/tag/view'
import { fromWire } from '~/core/value/wire'
import { countText } from '~/ui/time'
import { call } from '../../app/api'
import { ranges } from '../../app/live/wants'

/** Values of so many tags are asked for digit by digit; of more the states that the page has are copied. */
const EXACT_MOST = 2000

/** Puts tags on the clipboard as tab-separated text: the shown columns, also what was read. */
export async function copyTags(tags: readonly Tag[], keys: readonly string[], around: Surroundings, states: StateIndex | null): Promise<void> {
  const seen = keys.some(isSeenKey) ? await seenOf(tags, states) : new Map<number, Seen>()
  const rows = tags.map((tag) => {
    const flat = flatten(tag, around)
    return keys.map((key) => (isSeenKey(key) ? seenText(seen.get(tag.handle), key) : flat[columnIndex.get(key)!]!))
  })
  try {
    await navigator.clipboard.writeText(writeTable([keys, ...rows], '\t'))
    toast(`${countText(tags.length)} ${tags.length === 1 ? 'tag' : 'tags'} copied`)
  } catch {
    toast.error('The browser does not let the page write to the clipboard', { description: 'Export to a file instead' })
  }
}

async function seenOf(tags: readonly Tag[], states: StateIndex | null): Promise<Map<number, Seen>> {
  if (tags.length <= EXACT_MOST) {
    const values = await call('tagValues', { query: { tags: ranges(tags.map((t) => t.handle)) } }).catch(() => null)
    if (values) return new Map(values.map(([handle, value, status, time]) => [handle, { value: fromWire(value), status, time }]))
  }
  return new Map(tags.flatMap((t) => (states ? [[t.handle, seenIn(states, t)!] as const] : [])).filter(([, seen]) => seen !== undefined))
}

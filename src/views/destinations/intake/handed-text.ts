import { jsonLeaves, readWords } from '~/core/credential/intake/words'

/** Text shorter than this is looked at as it is pasted; nothing longer goes into a field. */
const LOOKED_AT = 20_000

/**
 * Whether text that is pasted into a form is what somebody was handed, and not what belongs into one of its fields: a thing with its
 * labels, a letter of several lines, a connection string, settings as JSON. `lines`: the field takes lines.
 */
export function isHanded(text: string, lines: boolean): boolean {
  if (/-----BEGIN [A-Z0-9 ]+-----/.test(text)) return true
  if (lines) return false
  if (text.length > LOOKED_AT) return true
  if (/\S[\r\n]+\s*\S/.test(text)) return true
  const leaves = jsonLeaves(text)
  if (leaves) return leaves.length > 1
  return readWords(text, '').filter((word) => word.name !== '' && word.role !== 'other').length > 1
}

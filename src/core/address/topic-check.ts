import type { Finding } from '~/contract/publication'
import { some as someOf } from './some'

const some = (names: readonly string[]) => someOf(names, 2)

/** What is wrong, or doubtful, with topics that a publication would write. By MQTT 5 4.7.3 and 1.5.4, and by what receivers stumble over. */
export function topicFindings(topics: readonly string[]): Finding[] {
  const out: Finding[] = []
  const say = (severity: Finding['severity'], message: string, hint: string) => out.push({ severity, section: 'address', message, hint })
  const long: string[] = []
  const empty: string[] = []
  const wild: string[] = []
  const control: string[] = []
  const foreign: string[] = []
  let dollar = ''
  const byCase = new Map<string, string>()
  const twins: string[] = []
  const encoder = new TextEncoder()
  for (const t of topics) {
    if (t.length > 21_845 && encoder.encode(t).length > 65_535) long.push(`${t.slice(0, 40)}…`)
    if (t === '' || t.startsWith('/') || t.endsWith('/') || t.includes('//')) empty.push(t || '(nothing)')
    if (/[+#]/.test(t)) wild.push(t)
    // biome-ignore lint/suspicious/noControlCharactersInRegex: MQTT 5 1.5.4 forbids just these
    if (/[\u0000-\u001f\u007f-\u009f]/.test(t)) control.push(t.replace(/\p{Cc}/gu, '·'))
    // biome-ignore lint/suspicious/noControlCharactersInRegex: all that is not ASCII is meant
    if (/[^\u0000-\u007f]/.test(t)) foreign.push(t)
    if (t.startsWith('$')) dollar = t
    const folded = t.toLowerCase()
    const other = byCase.get(folded)
    if (other === undefined) byCase.set(folded, t)
    else if (other !== t && twins.length < 5) twins.push(`${other} and ${t}`)
  }
  if (long.length > 0) say('stops', `Longer than 65,535 octets: ${some(long)}`, 'Shorten the template')
  if (wild.length > 0) say('stops', `A wildcard may not stand in a topic: ${some(wild)}`, 'Let a rule or the filter slug replace + and #')
  if (control.length > 0) say('stops', `Control characters in ${some(control)}`, 'Correct the name, or let the filter slug remove them')
  if (dollar) say('stops', `${dollar} begins with $, which belongs to the broker`, 'Put a level of your own before it')
  if (empty.length > 0)
    say('warns', `An empty level in ${some(empty)}`, 'A slash at an end or two together make a level without a name, which filters with + match too')
  if (twins.length > 0)
    say(
      'warns',
      `Differ only in the case of letters: ${some(twins)}`,
      'They are two topics to a broker and one to many receivers: use the filter lower',
    )
  if (foreign.length > 0) say('warns', `Not ASCII: ${some(foreign)}`, 'Allowed, but some receivers and cloud hubs refuse it: use the filter slug')
  return out
}

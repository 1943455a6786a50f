/** MQTT 5 4.7, written anew here: the stand-in shares no code with what it is used to test. */

export function topicMatches(filter: string, topic: string): boolean {
  if (topic[0] === '$' && (filter[0] === '+' || filter[0] === '#')) return false
  const f = filter.split('/')
  const t = topic.split('/')
  let i = 0
  for (; i < f.length; i++) {
    if (f[i] === '#') return true
    if (i >= t.length || (f[i] !== '+' && f[i] !== t[i])) return false
  }
  return i === t.length
}

/** Whether every topic that `inner` matches is matched by `outer`. */
export function covers(outer: string, inner: string): boolean {
  const o = outer.split('/')
  const n = inner.split('/')
  for (let i = 0; i < o.length; i++) {
    if (o[i] === '#') return true
    if (i >= n.length || n[i] === '#') return false
    if (o[i] !== '+' && o[i] !== n[i]) return false
  }
  return o.length === n.length
}

export function goodFilter(filter: string): boolean {
  const levels = filter.split('/')
  return filter.length > 0 && levels.every((l, i) => l === '+' || (l === '#' && i === levels.length - 1) || (!l.includes('+') && !l.includes('#')))
}

export function goodTopic(topic: string): boolean {
  return topic.length > 0 && !/[+#\0]/.test(topic)
}

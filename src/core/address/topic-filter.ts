/** Whether a topic name matches a filter (MQTT 5 4.7.1, 4.7.2). */
export function matches(filter: string, topic: string): boolean {
  if (topic.startsWith('$') && (filter.startsWith('+') || filter.startsWith('#'))) return false
  const f = filter.split('/')
  const t = topic.split('/')
  for (let i = 0; i < f.length; i++) {
    if (f[i] === '#') return true
    if (i >= t.length) return false
    if (f[i] !== '+' && f[i] !== t[i]) return false
  }
  return f.length === t.length
}

/** Whether a filter is well formed: # only last and alone, + alone in its level, not empty (MQTT 5 4.7.1). */
export function validFilter(filter: string): boolean {
  if (filter === '' || filter.includes('\0')) return false
  const levels = filter.split('/')
  return levels.every((l, i) => (l.includes('#') ? l === '#' && i === levels.length - 1 : !l.includes('+') || l === '+'))
}

/** Whether some topic matches both filters. */
export function overlap(a: string, b: string): boolean {
  const x = a.split('/')
  const y = b.split('/')
  for (let i = 0; ; i++) {
    if (x[i] === '#' || y[i] === '#') return true
    if (i >= x.length || i >= y.length) {
      // `a/#` also matches its parent `a` (MQTT 5 4.7.1.2)
      return x.length === y.length
    }
    if (x[i] !== '+' && y[i] !== '+' && x[i] !== y[i]) return false
  }
}

/** The narrowest filter that covers both. */
export function widen(a: string, b: string): string {
  const x = a.split('/')
  const y = b.split('/')
  const out: string[] = []
  for (let i = 0; i < x.length || i < y.length; i++) {
    if (i >= x.length || i >= y.length || x[i] === '#' || y[i] === '#') {
      out.push('#')
      break
    }
    out.push(x[i] === y[i] ? x[i]! : '+')
  }
  return out.join('/')
}

/**
 * Filters that together cover all the given ones and of which no two match the same topic: a broker may deliver a
 * message once for every overlapping subscription (MQTT 5 3.3.4), which a reader would take for doubled messages.
 */
export function disjoint(filters: readonly string[]): string[] {
  // Of two topics without a wildcard none can match the other's: with thousands of them only the wide ones are compared.
  const narrow = new Set<string>()
  let wide: string[] = []
  for (const filter of new Set(filters)) {
    let own = filter
    for (let again = true; again; ) {
      const clash = [...wide.filter((o) => overlap(o, own)), ...(isWide(own) ? [...narrow].filter((o) => overlap(own, o)) : [])]
      again = clash.length > 0
      if (!again) break
      own = clash.reduce(widen, own)
      const gone = new Set(clash)
      wide = wide.filter((o) => !gone.has(o))
      for (const o of clash) narrow.delete(o)
    }
    if (isWide(own)) wide.push(own)
    else narrow.add(own)
  }
  return [...narrow, ...wide].sort()
}

const isWide = (filter: string) => /(^|\/)[+#](\/|$)/.test(filter)

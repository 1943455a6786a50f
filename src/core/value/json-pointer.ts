import { own } from './own'

/** What a JSON Pointer points to (RFC 6901 4); undefined: there is nothing. `''` is the whole. */
export function pointed(value: unknown, pointer: string): unknown {
  if (pointer === '') return value
  let at = value
  for (const level of pointer.slice(1).split('/')) {
    const name = level.replaceAll('~1', '/').replaceAll('~0', '~')
    if (Array.isArray(at)) at = /^(0|[1-9]\d*)$/.test(name) ? at[Number(name)] : undefined
    else if (typeof at === 'object' && at !== null) at = own(at as Record<string, unknown>, name)
    else return undefined
  }
  return at
}

/** How many proxies stand in front that add to X-Forwarded-For: 0 where browsers come straight here. */
export function proxyHops(env: Record<string, string | undefined>): number {
  const hops = Number(env.EMBRIK_PROXY_HOPS ?? (env.EMBRIK_BEHIND_PROXY === '1' ? 1 : 0))
  return Number.isInteger(hops) && hops >= 0 && hops <= 10 ? hops : 0
}

/** What the proxy that is so many hops away wrote into a list; counted from the right, since the left is the caller's to invent. */
function fromRight(list: string | undefined, hops: number): string | null {
  const all = (list ?? '').split(',').map((x) => x.trim())
  return hops > 0 && all.length >= hops ? all[all.length - hops] || null : null
}

/** Where a request comes from: the connection, or behind proxies what the farthest trusted one saw. */
export function callerAddress(connection: string | null, forwardedFor: string | undefined, hops: number): string | null {
  return fromRight(forwardedFor, hops) ?? connection
}

/** Whether the browser came over TLS, as the farthest trusted proxy says. */
export const cameOverTls = (forwardedProto: string | undefined, hops: number): boolean => {
  const list = (forwardedProto ?? '').split(',').length
  return fromRight(forwardedProto, Math.min(hops, list)) === 'https'
}

/** Under this name the address goes on to the pages and endpoints; what a caller sent under it is thrown away. */
export const ADDRESS_HEADER = 'x-embrik-address'

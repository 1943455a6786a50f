import { createHmac, timingSafeEqual } from 'node:crypto'

/** So far ahead may the end of a token lie, ms. */
const AHEAD_MS = 86_400_000

/** What somebody says with a token: `unit=kiln-edge&until=1795982860&seal=...`. */
interface Said {
  unit: string
  until: number
  seal: string
}

function read(token: string): Said | null {
  const said = new URLSearchParams(token)
  const [unit, until, seal] = ['unit', 'until', 'seal'].map((name) => said.get(name))
  return unit && until && seal && /^\d{1,12}$/.test(until) ? { unit, until: Number(until), seal } : null
}

/** Whether a token was sealed by one of the keys, for this host and unit, and is good at `now` (epoch ms); what is wrong, or when it ends. */
export function judge(token: string, o: { host: string; unit: string; keys: readonly string[]; now: number }): string | { endsAt: number } {
  const said = read(token)
  if (!said) return 'no token: unit, until and seal are wanted'
  if (said.unit !== o.unit) return `a token of ${said.unit}`
  const text = `${said.unit}|${o.host}|${said.until}`
  const given = Buffer.from(said.seal, 'base64')
  const sealed = o.keys.some((key) => {
    const right = createHmac('sha256', Buffer.from(key, 'base64')).update(text).digest()
    return given.length === right.length && timingSafeEqual(given, right)
  })
  if (!sealed) return `not sealed by a key of this unit, for ${o.host}`
  const endsAt = said.until * 1000
  if (endsAt <= o.now) return `ended ${new Date(endsAt).toISOString()}; it is ${new Date(o.now).toISOString()} here`
  if (endsAt > o.now + AHEAD_MS) return `ends more than a day from now; it is ${new Date(o.now).toISOString()} here`
  return { endsAt }
}

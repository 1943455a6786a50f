import { z } from 'zod'
import { Id } from '../id'
import { paceFields, timeoutField } from './pace'

/** A JSON document behind a URL, fetched at a rate. */
export const HttpSettings = z
  .object({
    url: z
      .string()
      .trim()
      .max(2000)
      .regex(/^https?:\/\/[^\s/?#@]+([/?]\S*)?$/i, 'Like https://host:443/path, without a log-in in it')
      .meta({ label: 'URL', help: 'Answers GET with JSON', group: 'Reach' }),
    authorityId: Id.nullable().meta({ label: 'Trusted authority', help: 'For https; none: those that this machine trusts', group: 'Security' }),
    login: z.enum(['none', 'basic', 'bearer']).meta({ label: 'Log in by', help: 'basic: user and password; bearer: a token', group: 'Security' }),
    user: z.string().trim().max(200).meta({ label: 'User', group: 'Security' }),
    headers: z
      .string()
      .max(4000)
      .meta({ label: 'Headers', help: 'One a line, name: value. Secrets belong into the log-in, not here', group: 'Request', area: true }),
    timeoutMs: timeoutField.meta({ label: 'Answer within', unit: 'ms', group: 'Pace' }),
    ...paceFields,
  })
  .superRefine((s, ctx) => {
    if (s.login === 'basic' && !s.user) ctx.addIssue({ code: 'custom', path: ['user'], message: 'Which user?' })
    for (const [i, line] of s.headers.split('\n').entries())
      if (line.trim() !== '' && !/^[!#$%&'*+.^_`|~0-9A-Za-z-]+:[\t\x20-\x7e]*$/.test(line.trim()))
        ctx.addIssue({ code: 'custom', path: ['headers'], message: `Line ${i + 1} is no header: name: value` })
      else if (/^(authorization|host|content-length|transfer-encoding|connection)\s*:/i.test(line.trim()))
        ctx.addIssue({ code: 'custom', path: ['headers'], message: `Line ${i + 1}: this header is Embrik's to set` })
  })
export type HttpSettings = z.infer<typeof HttpSettings>

export function headersOf(text: string): Record<string, string> {
  const out: Record<string, string> = {}
  for (const line of text.split('\n')) {
    const at = line.indexOf(':')
    if (at > 0) out[line.slice(0, at).trim()] = line.slice(at + 1).trim()
  }
  return out
}

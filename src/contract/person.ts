import { z } from 'zod'
import { Id, Name } from './id'
import { commonness } from './password'
import { roles } from './role'

export const Role = z.enum(roles)

export const Login = z
  .string()
  .trim()
  .toLowerCase()
  .regex(/^[a-z0-9][a-z0-9._-]{1,39}$/, '2 to 40 of a-z, 0-9, dot, dash, underscore')

export const Password = z
  .string()
  .min(10, 'At least 10 characters')
  .max(200)
  .superRefine((text, ctx) => {
    const common = commonness(text)
    if (common !== null) ctx.addIssue({ code: 'custom', message: common })
  })

/** One's own, with the one before. */
export const PasswordChange = z.object({ current: z.string().min(1, 'Your password until now').max(200), next: Password })

/** A log-in that still stands. */
export const OpenSession = z.object({
  id: Id,
  createdAt: z.number(),
  seenAt: z.number(),
  address: z.string().nullable(),
  own: z.boolean().describe('It is the one that asks'),
})
export type OpenSession = z.infer<typeof OpenSession>

export const LogIn = z.object({
  login: z.string().min(1, 'Who are you?').max(200),
  password: z.string().min(1, 'Your password').max(200),
  code: z.string().max(40).optional().describe('Of the second factor, where there is one'),
})

/** How somebody's second factor stands: a code that a device of theirs shows, new every 30 s (RFC 6238). */
export const SecondFactor = z.object({
  since: z.number().nullable().describe('Epoch ms; null: there is none'),
  codesLeft: z.number().int().describe('Recovery codes that were not used yet'),
})
export type SecondFactor = z.infer<typeof SecondFactor>
/** One's own password, for what a stranger at an open session must not do. */
export const PasswordAgain = z.object({ password: z.string().min(1, 'Your password').max(200) })
export const CodeConfirm = z.object({ code: z.string().trim().min(1, 'The code that the device shows').max(40) })
export const SetUp = z.object({ token: z.string().min(1, 'It stands in the log'), name: Name, login: Login, password: Password })
export type SetUp = z.infer<typeof SetUp>

export const PersonDraft = z.object({ name: Name, login: Login, role: Role, password: Password })
export type PersonDraft = z.infer<typeof PersonDraft>
export const PersonChange = PersonDraft.partial().omit({ login: true })
export type PersonChange = z.infer<typeof PersonChange>
export const Person = z.object({ id: Id, name: Name, login: z.string(), role: Role, secondFactor: z.boolean() })
export type Person = z.infer<typeof Person>

/** A key ends, at the latest after two years. */
export const ApiKeyDraft = z.object({
  name: Name,
  role: Role,
  days: z.number().int().min(1, 'At least a day').max(730, 'At most two years').default(365),
})
export type ApiKeyDraft = z.infer<typeof ApiKeyDraft>
export const ApiKey = z.object({
  id: Id,
  name: Name,
  role: Role,
  prefix: z.string(),
  lastUsed: z.number().nullable(),
  owner: z.string().nullable().describe('Who made it; it may never more than they may, and goes with them'),
  endsAt: z.number().nullable().describe('Epoch ms; null: made before keys had an end'),
})
export type ApiKey = z.infer<typeof ApiKey>

/** Who asks: a person in a session, or a script with an API key. */
export const Caller = z.object({ kind: z.enum(['person', 'key']), id: Id, name: z.string(), role: Role })
export type Caller = z.infer<typeof Caller>

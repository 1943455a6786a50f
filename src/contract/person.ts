import { z } from 'zod'
import { Id, Name } from './id'
import { Role } from './role'

export const Login = z
  .string()
  .trim()
  .toLowerCase()
  .regex(/^[a-z0-9][a-z0-9._-]{1,39}$/, '2 to 40 of a-z, 0-9, dot, dash, underscore')

export const Password = z.string().min(10, 'At least 10 characters').max(200)

export const LogIn = z.object({ login: z.string().min(1, 'Who are you?').max(200), password: z.string().min(1, 'Your password').max(200) })
export const SetUp = z.object({ token: z.string().min(1, 'It stands in the log'), name: Name, login: Login, password: Password })
export type SetUp = z.infer<typeof SetUp>

export const PersonDraft = z.object({ name: Name, login: Login, role: Role, password: Password })
export type PersonDraft = z.infer<typeof PersonDraft>
export const PersonChange = PersonDraft.partial().omit({ login: true })
export type PersonChange = z.infer<typeof PersonChange>
export const Person = z.object({ id: Id, name: Name, login: z.string(), role: Role })
export type Person = z.infer<typeof Person>

export const ApiKeyDraft = z.object({ name: Name, role: Role })
export const ApiKey = z.object({ id: Id, name: Name, role: Role, prefix: z.string(), lastUsed: z.number().nullable() })
export type ApiKey = z.infer<typeof ApiKey>

/** Who asks: a person in a session, or a script with an API key. */
export const Caller = z.object({ kind: z.enum(['person', 'key']), id: Id, name: z.string(), role: Role })
export type Caller = z.infer<typeof Caller>

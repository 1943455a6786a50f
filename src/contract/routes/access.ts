import { z } from 'zod'
import { ApiKey, ApiKeyDraft, Caller, LogIn, Person, PersonChange, PersonDraft, SetUp } from '../person'
import { list, type Route } from './route'

/** Log-in, people and API keys. */
export const accessRoutes = {
  logIn: {
    method: 'POST',
    path: '/api/session',
    role: null,
    group: 'Access',
    summary: 'Log in; sets the session cookie',
    body: LogIn,
    answer: Person,
  },
  logOut: { method: 'DELETE', path: '/api/session', role: 'viewer', group: 'Access', summary: 'Log out', answer: null },
  whoAmI: { method: 'GET', path: '/api/session', role: 'viewer', group: 'Access', summary: 'Who is asking', answer: Caller },
  setUp: {
    method: 'POST',
    path: '/api/setup',
    role: null,
    group: 'Access',
    summary: 'Make the first administrator, with the token from the log',
    body: SetUp,
    answer: Person,
  },
  openapi: { method: 'GET', path: '/api/openapi.json', role: null, group: 'Access', summary: 'This description', answer: z.looseObject({}) },
  listPeople: {
    method: 'GET',
    path: '/api/people',
    role: 'administrator',
    group: 'People',
    summary: 'Everybody with a log-in',
    answer: list(Person),
  },
  addPerson: {
    method: 'POST',
    path: '/api/people',
    role: 'administrator',
    group: 'People',
    summary: 'Add somebody',
    body: PersonDraft,
    answer: Person,
  },
  changePerson: {
    method: 'PATCH',
    path: '/api/people/:id',
    role: 'administrator',
    group: 'People',
    summary: 'Change name, role or password',
    body: PersonChange,
    answer: Person,
  },
  removePerson: { method: 'DELETE', path: '/api/people/:id', role: 'administrator', group: 'People', summary: 'Remove somebody', answer: null },
  listKeys: {
    method: 'GET',
    path: '/api/keys',
    role: 'administrator',
    group: 'People',
    summary: 'API keys, without their text',
    answer: list(ApiKey),
  },
  addKey: {
    method: 'POST',
    path: '/api/keys',
    role: 'administrator',
    group: 'People',
    summary: 'Make an API key; its text is shown this once',
    body: ApiKeyDraft,
    answer: z.object({ key: z.string(), stored: ApiKey }),
  },
  removeKey: { method: 'DELETE', path: '/api/keys/:id', role: 'administrator', group: 'People', summary: 'Take an API key back', answer: null },
} as const satisfies Record<string, Route>

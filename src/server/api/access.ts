import { fail } from '~/contract/failure'
import { addKey, addPerson, changePerson, listKeys, listPeople, logIn, logOut, removeKey, removePerson, setUp } from '~/store/person'
import { database } from '../context'
import type { Handlers } from '../endpoint'
import { openapi } from '../openapi'
import { overTls, sessionCookie } from '../session'

type Keys =
  | 'logIn'
  | 'logOut'
  | 'whoAmI'
  | 'setUp'
  | 'openapi'
  | 'listPeople'
  | 'addPerson'
  | 'changePerson'
  | 'removePerson'
  | 'listKeys'
  | 'addKey'
  | 'removeKey'

let document: object | null = null

export const accessHandlers: Pick<Handlers, Keys> = {
  logIn: async ({ body, address, headers, request }) => {
    const session = await logIn(database(), body.login, body.password, address)
    if (!session) throw fail(401, 'access.refused', 'Log-in or password is wrong', 'Mind upper and lower case in the password', 'web')
    headers.append('set-cookie', sessionCookie(session.token, session.expires, overTls(request)))
    return session.person
  },
  logOut: async ({ token, headers, request }) => {
    if (token) await logOut(database(), token)
    headers.append('set-cookie', sessionCookie('gone', new Date(0), overTls(request)))
  },
  whoAmI: async ({ caller }) => caller,
  setUp: ({ body, address }) => setUp(database(), body, address),
  openapi: async () => (document ??= openapi()),
  listPeople: () => listPeople(database()),
  addPerson: ({ body }) => addPerson(database(), body),
  changePerson: ({ params, body }) => changePerson(database(), params.id!, body),
  removePerson: ({ params }) => removePerson(database(), params.id!),
  listKeys: () => listKeys(database()),
  addKey: ({ body }) => addKey(database(), body.name, body.role),
  removeKey: ({ params }) => removeKey(database(), params.id!),
}

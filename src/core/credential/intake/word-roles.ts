import type { WordRole } from '~/contract/intake'

/** A name in single words, lower case: `primaryKey`, `PRIMARY_KEY` and `primary key` are the same. */
export const wordsIn = (name: string): string[] =>
  name
    .replace(/([a-z0-9])([A-Z])/g, '$1 $2')
    .toLowerCase()
    .split(/[^a-z0-9]+/)
    .filter((word) => word !== '')

const of = (words: readonly string[], ...any: string[]) => any.some((word) => words.includes(word))

/** Names whose password opens a file and not a session. */
const FILES = ['key', 'keystore', 'store', 'pfx', 'p12', 'pkcs12', 'pkcs', 'import', 'export', 'certificate', 'cert', 'zip', 'archive', 'file']

/** What a value stands for, by what it is called; `other`: its name says nothing that is known here. */
export function roleOf(name: string): WordRole {
  const words = wordsIn(name)
  const together = words.join('')
  const secret = of(words, 'password', 'passwd', 'pwd', 'pass', 'secret', 'kennwort', 'passwort') || together.endsWith('password')
  if (of(words, 'events', 'event')) return eventsRole(words, secret)
  if (together.includes('passphrase') || of(words, 'pin') || (secret && of(words, ...FILES) && !of(words, 'access', 'shared'))) return 'pass-phrase'
  if (of(words, 'token', 'jwt', 'bearer', 'authorization', 'sas')) return 'token'
  if (of(words, 'key', 'psk') && !of(words, 'file', 'path', 'name', 'id', 'type', 'public')) return 'shared-key'
  if (secret) return 'password'
  if (of(words, 'user', 'username', 'login', 'account', 'benutzer') && !of(words, 'file')) return 'user'
  if (of(words, 'port')) return 'port'
  if (of(words, 'scheme', 'protocol', 'transport')) return 'scheme'
  if (of(words, 'client', 'device', 'identity', 'clientid', 'deviceid', 'registration', 'station', 'unit')) return 'identity'
  if (
    of(
      words,
      'host',
      'hostname',
      'server',
      'servers',
      'broker',
      'brokers',
      'endpoint',
      'address',
      'url',
      'uri',
      'domain',
      'fqdn',
      'gateway',
      'bootstrap',
      'hub',
    )
  )
    return 'host'
  if (of(words, 'path')) return 'path'
  return 'other'
}

/** Of what is said of the events in which the other side has what it took. */
function eventsRole(words: readonly string[], secret: boolean): WordRole {
  if (secret) return 'events-password'
  if (of(words, 'user', 'username', 'login')) return 'events-user'
  if (of(words, 'topic', 'stream', 'channel', 'name')) return 'events-topic'
  return words.length === 1 || of(words, 'server', 'servers', 'host', 'endpoint', 'address', 'bootstrap', 'url') ? 'events' : 'other'
}

/** What people call each role, in the order in which they are offered. */
export const roleWords: Readonly<Record<WordRole, string>> = {
  host: 'host',
  port: 'port',
  scheme: 'protocol',
  path: 'path',
  identity: 'client id',
  user: 'user',
  password: 'password',
  token: 'token',
  'shared-key': 'shared key',
  'pass-phrase': 'pass phrase',
  events: 'servers of events',
  'events-topic': 'topic of events',
  'events-user': 'user for events',
  'events-password': 'password for events',
  other: 'not known',
}

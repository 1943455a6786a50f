import { z } from 'zod'
import { Name } from './id'
import { TokenRecipe } from './token'

const Template = z.string().trim().max(1000, 'At most 1000 characters')
const Way = z.string().trim().max(200).default('')
const registry = 'Registry'
const count = (most: number) => z.number('How many?').int('A whole number').min(1, 'At least 1').max(most).nullable()

/**
 * How one kind of cloud hub wants to be spoken to, as data. Templates have {host} {port} {unit}; that of topics {place} and
 * {properties} too.
 */
export const HubProfile = z.object({
  name: Name,
  about: z
    .string()
    .max(2000)
    .default('')
    .meta({ label: 'About', help: 'What the receiving side calls it, and where its documents say so', area: true }),
  protocol: z.enum(['5', '3.1.1']).default('5').meta({ label: 'MQTT', group: 'Connect' }),
  port: z
    .number('A port number')
    .int()
    .min(1, 'From 1 to 65535')
    .max(65_535, 'From 1 to 65535')
    .default(8883)
    .meta({ label: 'Port', group: 'Connect' }),
  clientId: Template.min(1, 'Which client id?').default('{unit}').meta({ label: 'Client id', group: 'Connect' }),
  logInBy: z
    .enum(['token', 'certificate', 'password'])
    .default('token')
    .meta({
      label: 'Log-in by',
      options: { token: 'a token from a key', certificate: 'a certificate', password: 'a user and password' },
      group: 'Connect',
    }),
  user: Template.default('').meta({ label: 'User', help: 'Said with a token; empty where nobody asks', group: 'Connect' }),
  token: TokenRecipe.nullable().default(null).describe('How tokens are made from the key of a unit'),
  topic: Template.min(1, 'Where do messages go?').meta({
    label: 'Topic',
    help: '{place} is what the publication says; {properties} what is written beside the payload, as name=value&name=value',
    group: 'Messages',
  }),
  properties: z
    .enum(['user', 'topic', 'none'])
    .default('user')
    .meta({
      label: 'Properties go',
      options: { user: 'beside the payload (MQTT 5)', topic: 'in the topic', none: 'nowhere' },
      group: 'Messages',
    }),
  placeWord: z
    .string()
    .trim()
    .min(1, 'What is it called?')
    .max(40)
    .default('path')
    .meta({ label: 'A place is called', help: 'As the hub has it: path, alias, stream', group: 'Messages' }),
  oneLevel: z.boolean().default(false).meta({ label: 'Places without levels', help: 'A slash may not stand in them', group: 'Messages' }),
  declared: z
    .boolean()
    .default(false)
    .meta({ label: 'Places are declared', help: 'The hub takes only those that somebody declared there', group: 'Messages' }),
  downFilter: Template.default('').meta({
    label: 'Listens to',
    help: 'Where the hub hands down desired state and commands; empty: nowhere',
    group: 'From the hub',
  }),
  answerTopic: Template.default('').meta({
    label: 'Answers to',
    help: '{topic} is the last part of where it came; empty: no answer',
    group: 'From the hub',
  }),
  selfTopic: Template.default('').meta({
    label: 'Tells of itself at',
    help: 'Software, since when it is connected, how much it sent, as JSON; empty: nowhere',
    group: 'Housekeeping',
  }),
  selfEveryS: z
    .number('How many?')
    .int('A whole number')
    .min(10, 'At least 10 s')
    .max(86_400, 'At most a day')
    .nullable()
    .default(null)
    .meta({ label: 'And then every', unit: 's', help: 'Empty: only when it connects', group: 'Housekeeping' }),
  qosMost: z.enum(['0', '1', '2']).default('1').meta({ label: 'QoS up to', group: 'Limits' }),
  payloadOctets: count(268_435_455).default(null).meta({ label: 'Payload up to', unit: 'octets', group: 'Limits' }),
  perSecond: count(100_000).default(null).meta({ label: 'Messages a second', group: 'Limits' }),
  perDay: count(1_000_000_000).default(null).meta({ label: 'Messages a day', help: 'Counted from midnight UTC', group: 'Limits' }),
  readBack: z
    .enum(['stream', 'none'])
    .default('stream')
    .meta({ label: 'Read back from', options: { stream: 'a stream of events', none: 'nothing' }, group: 'Events' }),
  idHeader: z
    .string()
    .trim()
    .max(100)
    .default('embrik-id')
    .meta({ label: 'Id in', help: 'The header of an event that has the property embrik-id', group: 'Events' }),
  placeHeader: z
    .string()
    .trim()
    .max(100)
    .default('')
    .meta({ label: 'Place in', help: 'The header that has the place; empty: it is not told', group: 'Events' }),
  registryPath: Template.default('').meta({
    label: 'A unit is asked for at',
    help: 'Path below the address of the registry; it answers with JSON. Empty: nobody is asked',
    group: registry,
  }),
  saysConnected: Way.meta({ label: 'Connected in', help: 'Ways of names parted by dots, here and below; empty: it is not told', group: registry }),
  saysLast: Way.meta({ label: 'Last message in', group: registry }),
  saysTaken: Way.meta({ label: 'Taken in', group: registry }),
  saysRejected: Way.meta({ label: 'Rejected in', group: registry }),
  saysToday: Way.meta({ label: 'Counted today in', group: registry }),
  saysPerDay: Way.meta({ label: 'Quota of a day in', group: registry }),
  logPath: Template.default('').meta({ label: 'What it rejected is asked for at', help: 'Empty: it tells nothing of that', group: registry }),
  logRows: Way.meta({ label: 'Rows in', help: 'Empty: the answer is the list of them', group: registry }),
  logAt: Way.meta({ label: 'When, in a row', group: registry }),
  logWhy: Way.meta({ label: 'Why, in a row', group: registry }),
  logPlace: Way.meta({ label: 'Where, in a row', group: registry }),
})
export type HubProfile = z.infer<typeof HubProfile>

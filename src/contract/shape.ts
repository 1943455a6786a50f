import { z } from 'zod'

/** Which values a message holds, and how they are written. Shapes take those that make sense for them. */
const members = z
  .enum(['all', 'changed'])
  .default('all')
  .meta({ label: 'Members', options: { all: 'All of them', changed: 'Only those that changed' }, group: 'Values' })
const fullEvery = z
  .number()
  .int()
  .min(0, 'Not below 0')
  .max(100_000, 'At most 100,000')
  .default(60)
  .meta({ label: 'Whole every', unit: 'messages', help: 'A whole message among those with changes; 0: only the first', group: 'Values' })
const bad = z
  .enum(['marked', 'left-out', 'last-good'])
  .default('marked')
  .meta({
    label: 'Bad quality',
    options: { marked: 'No value, its reason', 'left-out': 'Left out', 'last-good': 'Last good value, its age' },
    group: 'Values',
  })
const nulls = z
  .enum(['null', 'left-out'])
  .default('null')
  .meta({ label: 'No value', options: { null: 'As null', 'left-out': 'Left out' }, group: 'Values' })
const decimals = z
  .number()
  .int()
  .min(0, 'Not below 0')
  .max(12, 'At most 12')
  .nullable()
  .default(null)
  .meta({ label: 'Decimals', help: 'Of numbers; empty: as many as they have', group: 'Numbers' })
const nonFinite = z
  .enum(['null', 'text'])
  .default('null')
  .meta({ label: 'NaN, infinite', options: { null: 'As no value', text: 'As "NaN", "Infinity", "-Infinity"' }, group: 'Numbers' })
const wholes = z
  .enum(['number', 'text'])
  .default('number')
  .meta({
    label: 'Beyond 2^53',
    options: { number: 'As a number', text: 'As text' },
    help: 'Many readers of JSON round whole numbers beyond 9,007,199,254,740,991',
    group: 'Numbers',
  })
export const TimeForm = z.enum(['iso', 'local', 'epoch-ms', 'epoch-s'])
export type TimeForm = z.infer<typeof TimeForm>
const time = TimeForm.default('iso').meta({
  label: 'Times',
  options: { iso: 'ISO 8601, UTC', local: 'ISO 8601, local with offset', 'epoch-ms': 'Milliseconds since 1970', 'epoch-s': 'Seconds since 1970' },
  group: 'Times',
})
const known = (zone: string) => {
  try {
    return Boolean(new Intl.DateTimeFormat('en', { timeZone: zone }))
  } catch {
    return false
  }
}
const zone = z
  .string()
  .trim()
  .max(60)
  .default('UTC')
  .refine(known, 'No time zone of the IANA database, such as Europe/London')
  .meta({ label: 'Time zone', help: 'For local times: Europe/London', group: 'Times' })
const compression = z
  .enum(['none', 'zlib', 'gzip', 'zstd'])
  .default('none')
  .meta({
    label: 'Compressed',
    options: { none: 'No', zlib: 'zlib (RFC 1950)', gzip: 'gzip (RFC 1952)', zstd: 'Zstandard (RFC 8878)' },
    group: 'Bytes',
  })
export type Compression = z.infer<typeof compression>
const per = z
  .enum(['equipment', 'publication'])
  .default('equipment')
  .meta({ label: 'One message', options: { equipment: 'for each equipment', publication: 'for all of them' }, group: 'Form' })

/** Of characters that a URI may have; what else there is must be escaped as %20. */
const URI_TEXT = /^(?:[A-Za-z0-9\-._~:/?#[\]@!$&'()*+,;=]|%[0-9A-Fa-f]{2})+$/
/** Begins with a scheme, or has no colon before its first slash, question mark or hash. */
const URI_START = /^(?:[A-Za-z][A-Za-z0-9+.-]*:|[^:/?#]*(?:[/?#]|$))/
/** A URI reference (RFC 3986 4.1). */
const isUriReference = (text: string) => URI_TEXT.test(text) && URI_START.test(text) && !/#.*#/.test(text)

/** A name of a field in JSON. */
const field = (name: string, label: string) => z.string().trim().min(1, 'Which name?').max(60).default(name).meta({ label, group: 'Names' })
const text = { decimals, nonFinite, wholes, time, zone }
/** Under which a registry keeps a schema. */
const subject = z.string().trim().min(1, 'Which subject?').max(200).default('{place}').meta({
  label: 'Subject',
  help: 'Under this the registry keeps the schema. {place} is the topic, {class} the class',
  group: 'Bytes',
})
const registered = {
  framing: z
    .enum(['plain', 'registry'])
    .default('plain')
    .meta({ label: 'Frame', options: { plain: 'None', registry: 'Schema number first' }, group: 'Bytes' }),
  subject,
}

export const ShapeSettings = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('value'), bad, ...text, compression }),
  z.object({
    kind: z.literal('value-quality-time'),
    valueName: field('value', 'Value'),
    qualityName: field('quality', 'Quality'),
    timeName: field('at', 'Time'),
    unitName: z.string().trim().max(60).default('').meta({ label: 'Unit', help: 'Empty: without', group: 'Names' }),
    bad,
    ...text,
    compression,
  }),
  z.object({ kind: z.literal('nested-json'), per, members, fullEvery, bad, nulls, ...text, compression, ...registered }),
  z.object({ kind: z.literal('flat-json'), members, fullEvery, bad, nulls, ...text, compression, ...registered }),
  z.object({
    kind: z.literal('template'),
    per: z
      .enum(['equipment', 'member'])
      .default('equipment')
      .meta({ label: 'One message', options: { equipment: 'for each equipment', member: 'for each member' }, group: 'Form' }),
    form: z
      .enum(['json', 'csv', 'text'])
      .default('json')
      .meta({
        label: 'Result',
        options: { json: 'JSON, checked', csv: 'CSV', text: 'Text' },
        help: 'Texts are escaped in JSON and quoted in CSV',
        group: 'Form',
      }),
    body: z.string().min(1, 'What is the message?').max(20_000, 'At most 20,000 characters').meta({ label: 'Message', group: 'Form' }),
    bad,
    ...text,
    compression,
  }),
  z.object({
    kind: z.literal('rows'),
    per,
    rows: z
      .enum(['narrow', 'wide'])
      .default('narrow')
      .meta({ label: 'Rows', options: { narrow: 'Narrow: one a value', wide: 'Wide: one an equipment, a column a member' }, group: 'Form' }),
    form: z
      .enum(['json', 'csv'])
      .default('json')
      .meta({ label: 'Written as', options: { json: 'JSON', csv: 'CSV (RFC 4180)' }, group: 'Form' }),
    apart: z
      .boolean()
      .default(false)
      .meta({ label: 'Apart', help: 'Numbers and texts in columns of their own, for tables that hold one type a column', group: 'Form' }),
    members,
    fullEvery,
    bad,
    ...text,
    compression,
  }),
  z.object({
    kind: z.literal('sparkplug-b'),
    group: z
      .string()
      .trim()
      .min(1, 'Which group?')
      .max(200)
      .regex(/^[^/+#]+$/, 'Without / + #')
      .default('plant')
      .meta({ label: 'Group id', group: 'Names' }),
    node: z
      .string()
      .trim()
      .min(1, 'Which edge node?')
      .max(200)
      .regex(/^[^/+#]+$/, 'Without / + #')
      .default('embrik')
      .meta({ label: 'Edge node id', help: 'One a destination: it has the connection to itself', group: 'Names' }),
    primaryHost: z
      .string()
      .trim()
      .max(200)
      .regex(/^[^/+#]*$/, 'Without / + #')
      .default('')
      .meta({ label: 'Primary host id', help: 'Births go out when it is there; empty: nobody is waited for', group: 'Names' }),
    members: z
      .enum(['all', 'changed'])
      .default('changed')
      .meta({ label: 'Members', options: { all: 'All of them', changed: 'Only those that changed' }, group: 'Values' }),
    bad: z
      .enum(['marked', 'last-good'])
      .default('marked')
      .meta({ label: 'Bad quality', options: { marked: 'No value, its quality', 'last-good': 'Last good value, its own time' }, group: 'Values' }),
    aliases: z.boolean().default(true).meta({ label: 'Aliases', help: 'Numbers in place of names, once they are born', group: 'Bytes' }),
    compression: z
      .enum(['none', 'gzip', 'deflate'])
      .default('none')
      .meta({
        label: 'Compressed',
        options: { none: 'No', gzip: 'gzip, in the standard’s envelope', deflate: 'DEFLATE, in the standard’s envelope' },
        group: 'Bytes',
      }),
  }),
  z.object({
    kind: z.literal('pubsub-json'),
    per,
    publisherId: z.string().trim().min(1, 'Which publisher?').max(200).default('embrik').meta({ label: 'Publisher id', group: 'Names' }),
    members,
    fullEvery,
    metadata: z.boolean().default(true).meta({
      label: 'Metadata',
      help: 'A retained message that describes the fields, first and every 10 minutes, on the topic with /metadata after it',
      group: 'Values',
    }),
    compression,
  }),
  z.object({
    kind: z.literal('pubsub-uadp'),
    per,
    publisherId: z
      .number()
      .int()
      .min(1, 'From 1')
      .max(65_535, 'At most 65,535')
      .default(1)
      .meta({ label: 'Publisher id', help: 'A number', group: 'Names' }),
    writerGroupId: z.number().int().min(1, 'From 1').max(65_535, 'At most 65,535').default(1).meta({ label: 'Writer group', group: 'Names' }),
    fields: z
      .enum(['variant', 'value'])
      .default('value')
      .meta({ label: 'Fields', options: { variant: 'With their type', value: 'With quality and time too' }, group: 'Values' }),
    members,
    fullEvery,
    metadata: z.boolean().default(true).meta({
      label: 'Metadata',
      help: 'A retained message that describes the fields, first and every 10 minutes, on the topic with /metadata after it',
      group: 'Values',
    }),
  }),
  z.object({
    kind: z.literal('cloudevents'),
    mode: z
      .enum(['structured', 'binary'])
      .default('structured')
      .meta({ label: 'Mode', options: { structured: 'Structured: all in the payload', binary: 'Binary: attributes as headers' }, group: 'Form' }),
    data: z
      .enum(['nested', 'flat'])
      .default('nested')
      .meta({ label: 'Data', options: { nested: 'Nested JSON', flat: 'Flat JSON' }, group: 'Form' }),
    type: z.string().trim().min(1, 'Which type?').max(200).default('equipment.state').meta({ label: 'Event type', group: 'Names' }),
    source: z
      .string()
      .trim()
      .min(1, 'Which source?')
      .max(300)
      .refine(isUriReference, 'A URI reference (RFC 3986), such as /works or https://varnmoor.example/works: no spaces, no signs beyond ASCII')
      .default('/embrik')
      .meta({ label: 'Event source', help: 'A URI reference; path of the equipment follows', group: 'Names' }),
    members,
    fullEvery,
    bad,
    nulls,
    ...text,
    compression,
  }),
  z.object({
    kind: z.literal('avro'),
    namespace: z
      .string()
      .trim()
      .max(200)
      .regex(/^$|^[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)*$/, 'Names parted by dots')
      .default('')
      .meta({ label: 'Namespace', group: 'Names' }),
    bad,
    framing: z
      .enum(['single-object', 'plain', 'registry'])
      .default('single-object')
      .meta({
        label: 'Frame',
        options: {
          'single-object': 'Single object: fingerprint first',
          plain: 'Only the datum',
          registry: 'Schema number first',
        },
        group: 'Bytes',
      }),
    subject,
    compression,
  }),
  z.object({ kind: z.literal('cbor'), members, fullEvery, bad, nulls, time, zone, compression }),
  z.object({ kind: z.literal('messagepack'), members, fullEvery, bad, nulls, time, zone, compression }),
  z.object({ kind: z.literal('device-facts'), time, zone, compression }),
])
export type ShapeSettings = z.infer<typeof ShapeSettings>
export type ShapeKind = ShapeSettings['kind']
export type ShapeInput = z.input<typeof ShapeSettings>
/** How shapes begin. */
export const flatJsonSettings = ShapeSettings.parse({ kind: 'flat-json' }) as Settings<'flat-json'>
/** Settings of one kind. */
export type Settings<K extends ShapeKind> = Extract<ShapeSettings, { kind: K }>

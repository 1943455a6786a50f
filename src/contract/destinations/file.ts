import { z } from 'zod'
import { Id } from '../id'
import { webAddress } from './http'
import { outboxTerms, paceTerms, windowTerm, witnessTerms } from './terms'

/** Levels of a folder, as they are written: `'lake/works'`. */
const folder = z
  .string()
  .trim()
  .max(500)
  .transform((text) => text.replace(/^\/+|\/+$/g, ''))
  .refine(
    (text) => text === '' || !text.split('/').some((level) => level === '' || level.startsWith('.')),
    'Levels like lake/works: none empty, none that begins with a dot',
  )
  .refine((text) => !/[\p{Cc}\\]/u.test(text), 'No control characters and no backslashes')

/** Files that hold many messages, in a folder or as objects of a store. */
export const FileSettings = z
  .object({
    store: z
      .enum(['folder', 'objects'])
      .default('folder')
      .meta({
        label: 'Kept in',
        options: { folder: 'A folder of this machine', objects: 'An object store, by HTTP' },
        group: 'Reach',
      }),
    folder: folder.default('').meta({ label: 'Folder', help: 'Under the files folder of this installation, or within the bucket', group: 'Reach' }),
    url: z
      .string()
      .trim()
      .max(2000)
      .default('')
      .refine((text) => text === '' || (webAddress(text)?.pathname === '/' && webAddress(text)?.search === ''), 'Like https://store.example:9000')
      .meta({ label: 'Address', help: 'Of the object store, without bucket', group: 'Reach' }),
    bucket: z
      .string()
      .trim()
      .max(63)
      .default('')
      .refine((text) => text === '' || /^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$/.test(text), '3 to 63 small letters, digits, dots and dashes')
      .meta({ label: 'Bucket', group: 'Reach' }),
    bucketInHost: z
      .boolean()
      .default(false)
      .meta({ label: 'Bucket in the host name', help: 'bucket.store.example, as some want it', group: 'Reach' }),
    region: z
      .string()
      .trim()
      .max(60)
      .default('us-east-1')
      .refine((text) => /^[a-z0-9-]+$/.test(text), 'Small letters, digits and dashes')
      .meta({ label: 'Region', help: 'Stands in the signature of each request; ask who runs the store', group: 'Reach' }),
    authorityId: Id.nullable().default(null).meta({
      label: 'Trusted authority',
      help: 'Which CA signed it; none: those that this machine trusts',
      group: 'Security',
    }),
    credentialId: Id.nullable()
      .default(null)
      .meta({ label: 'Access key', help: 'A log-in: the user is the key id, the password its secret', group: 'Identity' }),
    format: z
      .enum(['ndjson', 'csv', 'parquet'])
      .default('ndjson')
      .meta({
        label: 'Format',
        options: { ndjson: 'Lines of JSON', csv: 'CSV with a header', parquet: 'Parquet, for data lakes' },
        group: 'Files',
      }),
    compression: z.enum(['none', 'gzip', 'zstd']).default('none').meta({ label: 'Compression', group: 'Files' }),
    idColumn: z.string().trim().max(60).default('embrik_id').meta({
      label: 'Column of the id',
      help: 'Holds the id of the message; with it a message is in one file only, also after a kill. Empty: none',
      group: 'Files',
    }),
    filesMost: z
      .number()
      .int()
      .min(1)
      .max(20_000)
      .default(10_000)
      .meta({ label: 'Messages a file', help: 'With so many it is finished', group: 'Files' }),
    fileMb: z
      .number()
      .min(0.01)
      .max(200)
      .default(16)
      .meta({ label: 'File up to', unit: 'MB', help: 'Of payloads, before compression', group: 'Files' }),
    ageS: z
      .number()
      .min(0.1, 'At least 0.1 s')
      .max(86_400)
      .default(60)
      .meta({ label: 'Finished after', unit: 's', help: 'However few are in it. What lies in a finished file is acknowledged then', group: 'Files' }),
    partMb: z
      .number()
      .int()
      .min(5, 'At least 5 MB')
      .max(100)
      .default(16)
      .meta({ label: 'In parts of', unit: 'MB', help: 'A larger object is sent in several', group: 'Files' }),
    ...paceTerms,
    ...windowTerm(20_000, 'Messages that wait in files which are not finished; with so many the largest is'),
    ...witnessTerms,
    lookEveryS: z.number().int().min(5, 'At least 5 s').max(86_400).default(600).meta({
      label: 'Looked through every',
      unit: 's',
      help: 'Finished files are read at once; so often it is looked for others of ours',
      group: 'Witness',
    }),
    witnessCredentialId: Id.nullable().default(null).meta({ label: 'Witness access key', help: 'One that may only list and read', group: 'Witness' }),
    ...outboxTerms,
  })
  .superRefine((s, ctx) => {
    const wrong = (path: string, message: string) => ctx.addIssue({ code: 'custom', path: [path], message })
    if (s.store === 'folder' && s.folder === '') wrong('folder', 'Which folder?')
    if (s.store === 'objects') {
      if (s.url === '') wrong('url', 'Which address?')
      if (s.bucket === '') wrong('bucket', 'Which bucket?')
      if (!s.credentialId) wrong('credentialId', 'Which access key?')
    }
    if (s.witness && s.lateS <= s.ageS) wrong('lateS', `Files are finished after ${s.ageS} s: longer than that`)
  })
export type FileSettings = z.infer<typeof FileSettings>

import { z } from 'zod'
import { Credential, CredentialDraft } from './credential'
import { Destination, DestinationDraft } from './destination'
import { ClassDraft, Equipment, EquipmentClass, EquipmentDraft } from './equipment'
import { CheckStep } from './failure'
import { Id } from './id'
import { CourseFigures, EventRow, LedgerLine, LiveValue, Wall, Watch } from './live'
import { ApiKey, ApiKeyDraft, Caller, LogIn, Person, PersonChange, PersonDraft, SetUp } from './person'
import { Preview, Publication, PublicationDraft } from './publication'
import type { Role } from './role'
import { BrowseNode, BrowseQuery, Source, SourceCheck, SourceDraft } from './source'
import { Tag, TagChange, TagsAdd, TagsDelete, TagUse } from './tag'

/** One endpoint. `role` is the least that may call it; null: anybody. `:name` in the path is a parameter. */
export interface Route {
  method: 'GET' | 'POST' | 'PUT' | 'PATCH' | 'DELETE'
  path: string
  role: Role | null
  group: string
  summary: string
  query?: z.ZodObject
  body?: z.ZodType
  /** What comes back; null: nothing (204). */
  answer: z.ZodType | null
  /** Set when the answer is a stream of such things instead of one. */
  stream?: 'ndjson' | 'sse'
}

const list = <T extends z.ZodType>(of: T) => z.array(of)

/** Every endpoint there is: the web server, the OpenAPI document and the interface's client all read this table. */
export const routes = {
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

  listSources: { method: 'GET', path: '/api/sources', role: 'viewer', group: 'Sources', summary: 'All sources', answer: list(Source) },
  addSource: { method: 'POST', path: '/api/sources', role: 'engineer', group: 'Sources', summary: 'Add a source', body: SourceDraft, answer: Source },
  getSource: { method: 'GET', path: '/api/sources/:id', role: 'viewer', group: 'Sources', summary: 'One source', answer: Source },
  changeSource: {
    method: 'PUT',
    path: '/api/sources/:id',
    role: 'engineer',
    group: 'Sources',
    summary: 'Change a source',
    body: SourceDraft,
    answer: Source,
  },
  removeSource: {
    method: 'DELETE',
    path: '/api/sources/:id',
    role: 'engineer',
    group: 'Sources',
    summary: 'Remove a source without tags',
    answer: null,
  },
  checkSource: {
    method: 'POST',
    path: '/api/sources/check',
    role: 'engineer',
    group: 'Sources',
    summary: 'Check a connection step by step; saves nothing',
    body: SourceCheck,
    answer: CheckStep,
    stream: 'ndjson',
  },
  browseSource: {
    method: 'POST',
    path: '/api/sources/:id/browse',
    role: 'engineer',
    group: 'Sources',
    summary: 'What lies under a node',
    body: BrowseQuery,
    answer: list(BrowseNode),
  },
  application: {
    method: 'GET',
    path: '/api/application',
    role: 'viewer',
    group: 'Sources',
    summary: 'The certificate under which Embrik appears to OPC UA servers',
    answer: z.object({ thumbprint: z.string(), certificate: z.string() }),
  },

  listTags: { method: 'GET', path: '/api/tags', role: 'viewer', group: 'Tags', summary: 'All tags', answer: list(Tag) },
  addTags: { method: 'POST', path: '/api/tags', role: 'engineer', group: 'Tags', summary: 'Add tags: all or none', body: TagsAdd, answer: list(Tag) },
  changeTag: {
    method: 'PATCH',
    path: '/api/tags/:id',
    role: 'engineer',
    group: 'Tags',
    summary: 'Rename a tag or change its properties',
    body: TagChange,
    answer: Tag,
  },
  removeTags: {
    method: 'POST',
    path: '/api/tags/remove',
    role: 'engineer',
    group: 'Tags',
    summary: 'Remove tags: all or none',
    body: TagsDelete,
    answer: null,
  },
  tagUse: { method: 'GET', path: '/api/tags/:id/use', role: 'viewer', group: 'Tags', summary: 'What uses a tag', answer: TagUse },
  tagValues: {
    method: 'GET',
    path: '/api/values',
    role: 'viewer',
    group: 'Tags',
    summary: 'Present values by handle, as 1-40,52',
    query: z.object({ tags: z.string() }),
    answer: list(LiveValue),
  },

  listClasses: {
    method: 'GET',
    path: '/api/classes',
    role: 'viewer',
    group: 'Equipment',
    summary: 'All equipment classes',
    answer: list(EquipmentClass),
  },
  addClass: {
    method: 'POST',
    path: '/api/classes',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Add a class',
    body: ClassDraft,
    answer: EquipmentClass,
  },
  changeClass: {
    method: 'PUT',
    path: '/api/classes/:id',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Change a class',
    body: ClassDraft,
    answer: EquipmentClass,
  },
  removeClass: {
    method: 'DELETE',
    path: '/api/classes/:id',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Remove a class without equipment',
    answer: null,
  },
  listEquipment: {
    method: 'GET',
    path: '/api/equipment',
    role: 'viewer',
    group: 'Equipment',
    summary: 'The whole hierarchy',
    answer: list(Equipment),
  },
  addEquipment: {
    method: 'POST',
    path: '/api/equipment',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Add equipment',
    body: EquipmentDraft,
    answer: Equipment,
  },
  changeEquipment: {
    method: 'PUT',
    path: '/api/equipment/:id',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Change equipment and its bindings',
    body: EquipmentDraft,
    answer: Equipment,
  },
  removeEquipment: {
    method: 'DELETE',
    path: '/api/equipment/:id',
    role: 'engineer',
    group: 'Equipment',
    summary: 'Remove equipment with nothing under it',
    answer: null,
  },

  listPublications: {
    method: 'GET',
    path: '/api/publications',
    role: 'viewer',
    group: 'Publications',
    summary: 'All publications',
    answer: list(Publication),
  },
  addPublication: {
    method: 'POST',
    path: '/api/publications',
    role: 'engineer',
    group: 'Publications',
    summary: 'Add a publication',
    body: PublicationDraft,
    answer: Publication,
  },
  changePublication: {
    method: 'PUT',
    path: '/api/publications/:id',
    role: 'engineer',
    group: 'Publications',
    summary: 'Change what would go live next',
    body: PublicationDraft,
    answer: Publication,
  },
  removePublication: {
    method: 'DELETE',
    path: '/api/publications/:id',
    role: 'engineer',
    group: 'Publications',
    summary: 'Remove one that is not live',
    answer: null,
  },
  previewPublication: {
    method: 'POST',
    path: '/api/publications/preview',
    role: 'viewer',
    group: 'Publications',
    summary: 'Findings, topics and one real message of a draft',
    body: z.object({ draft: PublicationDraft, equipmentId: Id.optional() }),
    answer: Preview,
  },
  goLive: {
    method: 'POST',
    path: '/api/publications/:id/live',
    role: 'engineer',
    group: 'Publications',
    summary: 'Freeze a version and go live',
    answer: Publication,
  },
  pausePublication: {
    method: 'POST',
    path: '/api/publications/:id/pause',
    role: 'operator',
    group: 'Publications',
    summary: 'Pause',
    answer: Publication,
  },
  resumePublication: {
    method: 'POST',
    path: '/api/publications/:id/resume',
    role: 'operator',
    group: 'Publications',
    summary: 'Go on with the version that was live',
    answer: Publication,
  },

  listDestinations: {
    method: 'GET',
    path: '/api/destinations',
    role: 'viewer',
    group: 'Destinations',
    summary: 'All destinations',
    answer: list(Destination),
  },
  addDestination: {
    method: 'POST',
    path: '/api/destinations',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Add a destination',
    body: DestinationDraft,
    answer: Destination,
  },
  changeDestination: {
    method: 'PUT',
    path: '/api/destinations/:id',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Change a destination',
    body: DestinationDraft,
    answer: Destination,
  },
  removeDestination: {
    method: 'DELETE',
    path: '/api/destinations/:id',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Remove one without publications',
    answer: null,
  },
  checkDestination: {
    method: 'POST',
    path: '/api/destinations/check',
    role: 'engineer',
    group: 'Destinations',
    summary: 'Check a connection step by step; sends and saves nothing',
    body: DestinationDraft.extend({ id: Id.optional() }),
    answer: CheckStep,
    stream: 'ndjson',
  },
  listCredentials: {
    method: 'GET',
    path: '/api/credentials',
    role: 'engineer',
    group: 'Credentials',
    summary: 'Certificates and log-ins, without what is secret',
    answer: list(Credential),
  },
  addCredential: {
    method: 'POST',
    path: '/api/credentials',
    role: 'administrator',
    group: 'Credentials',
    summary: 'Add a certificate, an authority or a log-in',
    body: CredentialDraft,
    answer: Credential,
  },
  removeCredential: {
    method: 'DELETE',
    path: '/api/credentials/:id',
    role: 'administrator',
    group: 'Credentials',
    summary: 'Remove one that nothing uses',
    answer: null,
  },

  ledger: {
    method: 'GET',
    path: '/api/ledger',
    role: 'viewer',
    group: 'Proof',
    summary: 'Counts of every publication and destination',
    answer: list(LedgerLine),
  },
  wall: {
    method: 'GET',
    path: '/api/wall',
    role: 'viewer',
    group: 'Proof',
    summary: 'The wall: bricks of a slice width between two times (epoch ms)',
    query: z.object({ from: z.coerce.number().int().min(0), to: z.coerce.number().int().min(0), sliceMs: z.coerce.number().int().min(10_000) }),
    answer: Wall,
  },
  latency: {
    method: 'GET',
    path: '/api/latency/:delivery',
    role: 'viewer',
    group: 'Proof',
    summary: 'Device time to witness over the last hour, as bars',
    answer: list(z.object({ ms: z.number(), count: z.number() })),
  },
  events: {
    method: 'GET',
    path: '/api/events',
    role: 'viewer',
    group: 'Proof',
    summary: 'What happened, newest first',
    query: z.object({
      limit: z.coerce.number().int().min(1).max(1000).default(200),
      from: z.coerce.number().optional(),
      to: z.coerce.number().optional(),
    }),
    answer: list(EventRow),
  },
  conditions: {
    method: 'GET',
    path: '/api/conditions',
    role: 'viewer',
    group: 'Proof',
    summary: 'How every source, publication and destination is doing',
    answer: z.object({
      sources: z.record(z.string(), z.unknown()),
      publications: z.record(z.string(), z.unknown()),
      destinations: z.record(z.string(), z.unknown()),
      course: CourseFigures,
    }),
  },
  live: {
    method: 'GET',
    path: '/api/live',
    role: 'viewer',
    group: 'Proof',
    summary: 'Live values and states of what is watched',
    query: Watch.extend({ messages: z.string().default(''), spark: z.string().default('') }),
    answer: z.unknown(),
    stream: 'sse',
  },
} as const satisfies Record<string, Route>

export type Routes = typeof routes
export type RouteKey = keyof Routes
export type BodyOf<K extends RouteKey> = Routes[K] extends { body: infer B extends z.ZodType } ? z.output<B> : undefined
export type InputOf<K extends RouteKey> = Routes[K] extends { body: infer B extends z.ZodType } ? z.input<B> : undefined
export type QueryOf<K extends RouteKey> = Routes[K] extends { query: infer Q extends z.ZodType } ? z.output<Q> : undefined
export type AnswerOf<K extends RouteKey> = Routes[K] extends { answer: infer A extends z.ZodType } ? z.output<A> : undefined

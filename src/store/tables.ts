import type { ColumnType, Generated } from 'kysely'
import type { CertificateFacts, Credential } from '~/contract/credential'
import type { DestinationKind, DestinationSettings } from '~/contract/destination'
import type { ClassDraft, Equipment, Level, Member } from '~/contract/equipment'
import type { TakeBackReason } from '~/contract/make'
import type { Accepted } from '~/contract/preflight'
import type { ProofOutcome, ProofPlan } from '~/contract/prove'
import type { Plan, PublicationDraft } from '~/contract/publication'
import type { Role } from '~/contract/role'
import type { SettingsOf, SourceKind } from '~/contract/source'
import type { ChartSettings, DataType, Deadband, HistorySettings, Range, Scaling, Tag } from '~/contract/tag'
import type { TokenRecipe } from '~/contract/token'
import type { Assurance } from '~/core/delivery/envelope'
import type { Tally, WindowSet } from '~/core/delivery/verdict'
import type { RowPart } from '~/core/publication/placed-rows'

/** jsonb: read as a value, written as JSON text. */
type Json<T> = ColumnType<T, string, string>
type Made = ColumnType<Date, never, never>

export interface Tables {
  installation: { one: Generated<boolean>; code: string; setup_token_hash: Buffer | null }
  person: {
    id: string
    name: string
    login: string
    role: Role
    password_hash: string
    created_at: Made
    totp: Buffer | null
    totp_pending: Buffer | null
    totp_since: Date | null
    totp_step: Generated<number>
    /** Of somebody who logs in at a provider: whose word it is, and who they are there. */
    issuer: string | null
    subject: string | null
  }
  recovery_code: { person_id: string; code_hash: Buffer }
  session: {
    token_hash: Buffer
    /** The token before, good for a moment more: requests under way still carry it. */
    previous_hash: Buffer | null
    person_id: string
    created_at: Made
    rotated_at: Generated<Date>
    seen_at: Generated<Date>
    expires_at: Date
    address: string | null
    id: Generated<string>
  }
  known_device: { token_hash: Buffer; person_id: string; seen_at: Generated<Date> }
  log_in_attempt: { subject: Buffer; failures: number; last_at: Date; shut_until: Date | null }
  api_key: {
    id: string
    name: string
    role: Role
    prefix: string
    token_hash: Buffer
    created_at: Made
    last_used: Date | null
    owner_id: string | null
    ends_at: Date | null
  }
  credential: {
    id: string
    name: string
    kind: Credential['kind']
    certificate: string | null
    facts: Json<CertificateFacts> | null
    user_name: string | null
    secret: Buffer | null
    created_at: Made
    places: ColumnType<string[], string[] | undefined, string[]>
    /** Of a token that is the password. */
    ends_at: Date | null
    recipe: Json<TokenRecipe> | null
    /** So many days before its end it is renewed; null: not by itself. */
    renew_days: Generated<number | null>
  }
  issued_certificate: {
    authority_id: string
    serial: string
    subject: string
    issued_at: Generated<Date>
    not_after: Date
    taken_back_at: Date | null
    reason: TakeBackReason | null
  }
  credential_before: {
    credential_id: string
    certificate: string | null
    facts: Json<CertificateFacts> | null
    user_name: string | null
    secret: Buffer | null
    ends_at: Date | null
    recipe: Json<TokenRecipe> | null
    replaced_at: Generated<Date>
  }
  source: {
    id: string
    name: string
    kind: SourceKind
    settings: Json<SettingsOf<SourceKind>>
    secret: Buffer | null
    enabled: boolean
    version: Generated<number>
  }
  tag: {
    id: string
    handle: Generated<number>
    name: string
    source_id: string
    address: string
    data_type: DataType
    unit: string
    description: string
    format: Generated<string>
    deadband: Json<Deadband> | null
    range: Json<Range> | null
    scaling: Json<Scaling> | null
    access: Generated<'read' | 'read-write'>
    sample_ms: number | null
    group_id: string | null
    initial: Json<Tag['initial']>
    hold: Generated<Tag['hold']>
    history: Json<HistorySettings> | null
    chart: Json<ChartSettings> | null
    signal: Generated<string>
    simulated: Generated<boolean>
    version: Generated<number>
  }
  sampling_group: { id: string; name: string; sample_ms: number }
  tag_pattern: { id: string; name: string; parameters: Json<string[]>; rows: Json<Record<string, string>[]> }
  held_value: { tag_id: string; value: Json<Tag['initial']>; at: Date; boot: string }
  equipment_class: {
    id: string
    name: string
    description: Generated<string>
    extends_id: string | null
    members: Json<Member[]>
    version: Generated<number>
  }
  class_version: { class_id: string; version: number; at: Generated<Date>; made_by: string; draft: Json<ClassDraft> }
  equipment: {
    id: string
    name: string
    parent_id: string | null
    level: Level
    class_id: string | null
    alias: Generated<string>
    facts: Json<Equipment['facts']>
    external_ids: Json<Equipment['externalIds']>
    counts: Json<Equipment['counts']>
    bindings: Json<Equipment['bindings']>
    version: Generated<number>
  }
  record_column: { source_id: string; row_key: string; column_name: string; data_type: DataType; handle: Generated<number> }
  plant_key: { id: string; made_at: Generated<Date>; public_key: string; secret: Buffer }
  proof_run: {
    id: string
    name: string
    plan: Json<ProofPlan>
    made_by: string
    started_at: Generated<Date>
    ended_at: Date | null
    outcome: ProofOutcome | null
    why: Generated<string>
    sha256: Generated<string>
  }
  proof_report: { run_id: string; part: 'json' | 'html' | 'pdf'; body: Buffer; signature: string; key_id: string }
  row_value: { source_id: string; at: string; part: RowPart; column_name: string; data_type: DataType; handle: Generated<number> }
  destination: {
    id: string
    name: string
    kind: DestinationKind
    settings: Json<DestinationSettings[DestinationKind]>
    enabled: boolean
    version: Generated<number>
    birth_death: Generated<number>
    /** Of a lane: the destination whose settings it has, and who speaks on it. */
    parent_id: string | null
    node: Generated<string>
  }
  publication: {
    id: string
    name: string
    draft: Json<PublicationDraft>
    destination_id: string
    state: 'draft' | 'live' | 'paused'
    live_version: number | null
    live_draft_version: number | null
    version: Generated<number>
    /** Of a further clause: the publication that it is one of. Taken from the draft by the database. */
    also_of: ColumnType<string | null, never, never>
  }
  publication_version: {
    publication_id: string
    number: number
    plan: Json<Plan>
    made_at: Made
    note: Generated<string>
    accepted: ColumnType<Accepted[], string | undefined, string>
    made_by: string
    /** Taken from the plan by the database. */
    reads: ColumnType<string[] | null, never, never>
    destination_id: ColumnType<string | null, never, never>
    publisher: ColumnType<string | null, never, never>
    delivery: ColumnType<number | null, never, never>
  }
  delivery: { number: Generated<number>; publication_id: string; destination_id: string }
  publication_memory: { publication_id: string; place: string; kept: string }
  taken_back: { delivery: number; place: string; key: ColumnType<string, string | undefined, string> }
  outbox_segment: {
    destination_id: string
    segment: number
    count: number
    codec: number
    raw_bytes: number
    body: Buffer
    ordinal: Generated<number>
    ranges: Generated<string>
    created_at: Made
    /** When it went into the journal; null: it waits. */
    freed_at: Date | null
    /** When its messages came past each hop. */
    hops: Buffer | null
  }
  outbox_cursor: {
    destination_id: string
    segment: number
    done: number
    counted_segment: number
    ordinal: Generated<number>
    announced: Generated<number>
  }
  aside: {
    id: Generated<number>
    destination_id: string
    delivery: number
    seq: number
    at: Generated<Date>
    topic: string
    assurance: Assurance
    properties: string
    payload: Buffer
    code: string
    message: string
    hint: string
    /** How many its payload had; null: it is from before this was kept. */
    octets: number | null
    again_seq: number | null
    again_at: Date | null
    again_by: string | null
  }
  engine_lease: { one: Generated<boolean>; epoch: number; holder: Json<object> | null }
  engine_pulse: { one: Generated<boolean>; at: Date }
  ledger_state: { one: Generated<boolean>; flush: number }
  ledger_total: {
    delivery: number
    stored_through: number
    made_at: number
    acknowledged: number
    foreign_count: number
    answered_through: number
    known_through: number
    turns: Generated<number>
  } & Tally
  ledger_odd: { delivery: number; part: number } & Record<WindowSet, string>
  ledger_slice: { delivery: number; start: number; first_seq: number | null; produced: number; foreign_count: number } & Tally
  sent_day: { destination_id: string; day: number; count: number }
  witness_position: { destination_id: string; position: Buffer }
  ledger_latency: { delivery: number; minute: number; histogram: Buffer }
  event: {
    id: Generated<number>
    at: Generated<Date>
    severity: 'good' | 'note' | 'warning' | 'trouble'
    place: string
    subject_id: string | null
    subject: string
    code: string
    message: string
    hint: string
    token: string | null
  }
  audit: {
    id: Generated<number>
    at: Generated<Date>
    who: string
    who_id: string | null
    via: 'session' | 'key' | 'sign-on' | 'nobody'
    address: string | null
    act: string
    subject_kind: string
    subject_id: string | null
    subject: string
    before: Json<unknown> | null
    after: Json<unknown> | null
  }
}

import type { SettingsOf, Source, SourceKind } from '~/contract/source'

interface KindView<K extends SourceKind> {
  label: string
  /** What it is for, in a line. */
  note: string
  fresh: SettingsOf<K>
  /** What the check will try. */
  check: string
  place(settings: SettingsOf<K>): string
  /** What it is exposed to; null: nothing to warn of. */
  warning(settings: SettingsOf<K>): string | null
}

const pace = { rateMs: 1000, retryMs: 1000 }

const kinds: { [K in SourceKind]: KindView<K> } = {
  opcua: {
    label: 'OPC UA',
    note: 'A server with an address space to browse: controllers, historians',
    check:
      'Tries, one after the other: name, port, secure channel, whether the server trusts Embrik, log-in, and a first read. Nothing is saved by it.',
    fresh: {
      endpoint: 'opc.tcp://',
      mode: 'SignAndEncrypt',
      policy: 'Basic256Sha256',
      login: 'user',
      user: '',
      serverThumbprint: '',
      credentialId: null,
      samplingMs: 0,
      queue: 10,
      deadbands: 'here',
      rateMs: 500,
      retryMs: 1000,
    },
    place: (s) => s.endpoint,
    warning: (s) => (s.mode === 'None' ? 'Without security: anybody in between can read and change values.' : null),
  },
  modbus: {
    label: 'Modbus TCP',
    note: 'Registers by number: meters, drives, small controllers, gateways',
    check: 'Tries name and port, then whether the unit answers. Nothing is saved by it.',
    fresh: { host: '', port: 502, probeUnit: 1, notation: 'reference', gap: 8, maxRegisters: 100, writes: 'single', timeoutMs: 1000, ...pace },
    place: (s) => `${s.host}:${s.port}`,
    warning: () => null,
  },
  mqtt: {
    label: 'MQTT topics',
    note: 'Devices that publish on a broker by themselves: JSON, bare values, Sparkplug B',
    check: 'Tries name, port, TLS, the log-in, and whether the broker lets us listen on the topics. Nothing is saved by it.',
    fresh: {
      host: '',
      port: 8883,
      protocol: '5',
      tls: true,
      authorityId: null,
      clientId: 'embrik-collector',
      credentialId: null,
      filters: '',
      timeField: '',
      qualityField: '',
      staleS: 60,
      keepAliveS: 30,
      retryMs: 1000,
    },
    place: (s) => `${s.host}:${s.port}`,
    warning: (s) => (s.tls ? null : 'Without TLS: anybody in between can read messages and the log-in.'),
  },
  sql: {
    label: 'SQL query',
    note: 'A read-only query on a PostgreSQL database: orders, recipes, batches',
    check: 'Tries name, port and the log-in, runs the query once and shows its result. Nothing is saved by it.',
    fresh: {
      host: '',
      port: 5432,
      database: '',
      tls: false,
      authorityId: null,
      user: '',
      query: 'select ',
      keyColumn: '',
      timeoutMs: 5000,
      rateMs: 10_000,
      retryMs: 1000,
    },
    place: (s) => `${s.host}:${s.port}/${s.database}`,
    warning: (s) => (s.tls ? null : 'Without TLS: anybody in between can read the answers.'),
  },
  http: {
    label: 'HTTP JSON',
    note: 'A URL that answers with JSON: device status pages, small services',
    check: 'Tries name and port, fetches the document once and shows it. Nothing is saved by it.',
    fresh: { url: 'https://', authorityId: null, login: 'none', user: '', headers: '', timeoutMs: 5000, rateMs: 5000, retryMs: 1000 },
    place: (s) => s.url,
    warning: (s) => (s.url.startsWith('https:') ? null : 'Without TLS: anybody in between can read the document and the log-in.'),
  },
  simulated: {
    label: 'Simulated',
    note: 'Signals computed by Embrik, or a recording again and again: while a device is not there yet',
    check: 'Reads the recording. Nothing is saved by it.',
    fresh: { seed: 1, recording: '', ...pace },
    place: (s) => `computed here, seed ${s.seed}`,
    warning: () => 'These values are made up.',
  },
}

export const kindList = Object.entries(kinds).map(([kind, k]) => ({ kind: kind as SourceKind, label: k.label, note: k.note }))

export function kindView(kind: SourceKind): KindView<SourceKind> {
  return kinds[kind] as unknown as KindView<SourceKind>
}

export const placeOf = (s: Pick<Source, 'kind' | 'settings'>): string => kindView(s.kind).place(s.settings)

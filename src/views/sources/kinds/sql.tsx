import { Fact } from '~/ui/Notes'
import { Pre } from '~/ui/Pre'
import { durationText } from '~/ui/time'
import { hostAt } from '../../destinations/intake/addresses'
import type { KindView } from './kind-view'

export const sql: KindView<'sql'> = {
  label: 'SQL query',
  note: 'A read-only query on a PostgreSQL database: orders, recipes, batches',
  check: 'Tries name, port and the log-in, runs the query once and shows its result. Nothing is saved by it.',
  tags: { page: '/sources/browse', label: 'Browse and add tags' },
  measured: true,
  credentials: [],
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
  hides: (s) => (s.tls ? [] : ['authorityId']),
  secret: () => ({ after: 'user', label: 'Password' }),
  filled: (address) => ({ ...hostAt(address) }),
  Facts: ({ settings: s }) => (
    <>
      <Fact name="Log-in">{s.user}</Fact>
      <Fact name="Rows by">{s.keyColumn || 'the one row'}</Fact>
      <Fact name="Asked every">{durationText(s.rateMs)}</Fact>
      <Pre label="What is asked" className="mt-1 max-h-32 bg-paper px-2 py-1 text-xs whitespace-pre-wrap">
        {s.query}
      </Pre>
    </>
  ),
}

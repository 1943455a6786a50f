import { Fact } from '~/ui/Notes'
import { durationText } from '~/ui/time'
import { webAt } from '../../destinations/intake/addresses'
import type { KindView } from './kind-view'

export const http: KindView<'http'> = {
  label: 'HTTP JSON',
  note: 'A URL that answers with JSON: device status pages, small services',
  check: 'Tries name and port, fetches the document once and shows it. Nothing is saved by it.',
  tags: { page: '/sources/browse', label: 'Browse and add tags' },
  measured: true,
  credentials: [],
  fresh: { url: 'https://', authorityId: null, login: 'none', user: '', headers: '', timeoutMs: 5000, rateMs: 5000, retryMs: 1000 },
  place: (s) => s.url,
  warning: (s) => (s.url.startsWith('https:') ? null : 'Without TLS: anybody in between can read the document and the log-in.'),
  hides: (s) => [...(s.url.startsWith('https:') ? [] : ['authorityId']), ...(s.login === 'basic' ? [] : ['user'])],
  secret: (s) => (s.login === 'basic' ? { after: 'user', label: 'Password' } : s.login === 'bearer' ? { after: 'login', label: 'Token' } : null),
  filled: (address) => (address.host === null ? {} : { url: webAt(address)! }),
  Facts: ({ settings: s }) => (
    <>
      <Fact name="Log-in">{s.login === 'none' ? 'none' : s.login === 'basic' ? s.user : 'by token'}</Fact>
      <Fact name="Asked every">{durationText(s.rateMs)}</Fact>
    </>
  ),
}

import { Fact } from '~/ui/Notes'
import type { KindView } from './kind-view'

export const simulated: KindView<'simulated'> = {
  label: 'Simulated',
  note: 'Signals computed by Embrik, or a recording again and again: while a device is not there yet',
  check: 'Reads the recording. Nothing is saved by it.',
  tags: { page: '/sources/browse', label: 'Browse and add tags' },
  measured: false,
  credentials: [],
  fresh: { seed: 1, recording: '', rateMs: 1000, retryMs: 1000 },
  place: (s) => `computed here, seed ${s.seed}`,
  warning: () => 'These values are made up.',
  hides: () => [],
  secret: () => null,
  Facts: ({ settings: s }) => <Fact name="Update rate">{s.rateMs} ms</Fact>,
}

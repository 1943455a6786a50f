import { Fact } from '~/ui/Notes'
import { hostAt } from '../../destinations/intake/addresses'
import type { KindView } from './kind-view'

export const modbus: KindView<'modbus'> = {
  label: 'Modbus TCP',
  note: 'Registers by number: meters, drives, small controllers, gateways',
  check: 'Tries name and port, then whether the unit answers. Nothing is saved by it.',
  tags: { page: '/sources/registers', label: 'Register bench' },
  measured: true,
  credentials: [],
  fresh: {
    host: '',
    port: 502,
    probeUnit: 1,
    notation: 'reference',
    gap: 8,
    maxRegisters: 100,
    writes: 'single',
    timeoutMs: 1000,
    rateMs: 1000,
    retryMs: 1000,
  },
  place: (s) => `${s.host}:${s.port}`,
  warning: () => null,
  hides: () => [],
  secret: () => null,
  filled: (address) => ({ ...hostAt(address) }),
  Facts: ({ settings: s }) => (
    <>
      <Fact name="Requests">
        up to {s.maxRegisters} registers, gaps of {s.gap} read along
      </Fact>
      <Fact name="Update rate">{s.rateMs} ms</Fact>
      <Fact name="Silent after">{s.timeoutMs} ms</Fact>
    </>
  ),
}

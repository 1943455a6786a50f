import { randomUUID } from 'node:crypto'
import { api } from './browser'

const TAGS = 20_000
const MEMBERS = 10

/** Adds 20,000 simulated tags and the 2,000 machines whose members they fill. */
export async function addMachines(): Promise<void> {
  const { id: sourceId } = await api<{ id: string }>('/api/sources', {
    name: 'Many',
    kind: 'simulated',
    enabled: true,
    settings: { seed: 1, recording: '', rateMs: 2500, retryMs: 1000 },
  })
  const tags: { id: string }[] = []
  for (let from = 0; from < TAGS; from += 10_000)
    tags.push(
      ...(await api<{ id: string }[]>('/api/tags', {
        tags: Array.from({ length: 10_000 }, (_, i) => ({
          name: `Many/Machine ${Math.floor((from + i) / MEMBERS)}/m${i % MEMBERS}`,
          sourceId,
          address: 'noise low=0 high=100',
          dataType: 'number',
        })),
      })),
    )
  const cls = await api<{ id: string; members: { id: string }[] }>('/api/classes', {
    name: 'Machine',
    members: Array.from({ length: MEMBERS }, (_, m) => ({ key: `m${m}`, label: `m${m}`, dataType: 'number', unit: '' })),
  })
  const [top, site] = [randomUUID(), randomUUID()]
  const add = [
    { id: top, name: 'Greater Varnmoor', parentId: null, level: 'enterprise' },
    { id: site, name: 'Upper Pit', parentId: top, level: 'site' },
    ...Array.from({ length: TAGS / MEMBERS }, (_, i) => ({
      name: `Machine ${i}`,
      parentId: site,
      level: 'work centre',
      classId: cls.id,
      bindings: Object.fromEntries(cls.members.map((m, k) => [m.id, { kind: 'tag', tagId: tags[i * MEMBERS + k]!.id }])),
    })),
  ]
  await api('/api/equipment/edit', { add })
}

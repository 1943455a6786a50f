import type { Publication } from '~/contract/publication'
import type { Version } from '~/contract/version'
import { api } from './support'

type Draft = Omit<Publication, 'id' | 'version' | 'state' | 'liveVersion' | 'editedSinceLive'>

/** A draft of its own, like a publication that is live, to topics under its name; gives how to look at it and to end it. */
export async function draft(name: string, part: Partial<Draft> = {}) {
  const like = (await api<Publication[]>('GET', '/api/publications')).find((p) => p.name === 'Kiln zones, each change')!
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...rest } = like
  const address = { ...rest.address, topic: `varnmoor/${name}/{unit}` }
  const { id } = await api<Publication>('POST', '/api/publications', { ...rest, name, address, ...part } as Draft)
  return {
    id,
    destinationId: rest.destinationId,
    stored: async () => (await api<Publication[]>('GET', '/api/publications')).find((p) => p.id === id)!,
    versions: () => api<Version[]>('GET', `/api/publications/${id}/versions`),
    async end() {
      await api('POST', `/api/publications/${id}/pause`).catch(() => null)
      await api('DELETE', `/api/publications/${id}`)
    },
  }
}

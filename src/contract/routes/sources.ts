import { z } from 'zod'
import { CheckStep } from '../failure'
import { BrowseNode, BrowseQuery, Source, SourceCheck, SourceDraft } from '../source'
import { list, type Route } from './route'

/** Sources. */
export const sourcesRoutes = {
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
} as const satisfies Record<string, Route>

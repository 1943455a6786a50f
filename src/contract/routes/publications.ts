import { z } from 'zod'
import { Id } from '../id'
import { Preview, Publication, PublicationDraft } from '../publication'
import { list, type Route } from './route'

/** Publications. */
export const publicationsRoutes = {
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
} as const satisfies Record<string, Route>

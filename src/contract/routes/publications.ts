import { z } from 'zod'
import { Budget, BudgetQuery, BudgetSum } from '../budget'
import { Id } from '../id'
import { MessageOrigins } from '../journal'
import { paths } from '../paths'
import { Accepted, Looked, Preflight } from '../preflight'
import { HeldValues, Preview, Publication, PublicationDraft } from '../publication'
import { Replay, ReplayQuery } from '../replay'
import { Version, VersionDifferences } from '../version'
import { Begun, list, type Route } from './route'

/** Publications. */
export const publicationsRoutes = {
  listPublications: {
    ...paths.listPublications,
    role: 'viewer',
    group: 'Publications',
    summary: 'All publications',
    answer: list(Publication),
  },
  addPublication: {
    ...paths.addPublication,
    role: 'engineer',
    group: 'Publications',
    summary: 'Add a publication, or a further clause of one',
    body: PublicationDraft,
    answer: Publication,
  },
  changePublication: {
    ...paths.changePublication,
    role: 'engineer',
    group: 'Publications',
    summary: 'Change what would go live next',
    query: Begun,
    body: PublicationDraft,
    answer: Publication,
  },
  removePublication: {
    ...paths.removePublication,
    role: 'engineer',
    group: 'Publications',
    summary: 'Remove one that is not live',
    answer: null,
  },
  previewPublication: {
    ...paths.previewPublication,
    role: 'viewer',
    group: 'Publications',
    summary: 'Findings, topics and one real message of a draft',
    body: z.object({
      draft: PublicationDraft,
      equipmentId: Id.optional(),
      publicationId: Id.optional(),
      held: HeldValues.optional().describe('Values to be used in the place of those of this moment'),
    }),
    answer: Preview,
  },
  publicationContract: {
    ...paths.publicationContract,
    role: 'viewer',
    group: 'Publications',
    summary: 'What a receiver needs: a schema or description of its messages, and an example with the values of this moment',
    answer: z.record(z.string(), z.unknown()),
  },
  publicationAsyncApi: {
    ...paths.publicationAsyncApi,
    role: 'viewer',
    group: 'Publications',
    summary: 'An AsyncAPI 3.0 document of all its topics and messages',
    answer: z.record(z.string(), z.unknown()),
  },
  goLive: {
    ...paths.goLive,
    role: 'engineer',
    group: 'Publications',
    summary: 'Freeze a version, of all clauses, and go live; refused while the preflight has a warning that is not accepted',
    body: z
      .object({
        takeBack: z.boolean().default(false).describe('Take back what the destination keeps of the version before, and the new one does not replace'),
        note: z.string().trim().max(500, 'At most 500 characters').default('').describe('Why, for who looks later'),
        accepted: z.array(Accepted).max(1800).default([]).describe('Warnings of the preflight that are lived with'),
        looked: z.array(Looked).max(20).optional().describe('Drafts as they were looked at: refused where one of them has been changed since'),
      })
      .default({ takeBack: false, note: '', accepted: [] }),
    answer: Publication,
  },
  budgetPublication: {
    ...paths.budgetPublication,
    role: 'viewer',
    group: 'Publications',
    summary: 'What a draft would have sent of what was recorded of its tags, in messages and octets, and what of the curves would be lost',
    body: BudgetQuery,
    answer: Budget,
  },
  sentByPublication: {
    ...paths.sentByPublication,
    role: 'viewer',
    group: 'Publications',
    summary: 'What a publication really sent in a span of time, as far as the journal has it',
    query: z.object({ from: z.coerce.number().describe('Epoch ms'), to: z.coerce.number().describe('Epoch ms') }),
    answer: BudgetSum,
  },
  replayPublication: {
    ...paths.replayPublication,
    role: 'engineer',
    group: 'Publications',
    summary: 'What was sent in a span of time, beside what a draft would have sent of the same values',
    body: ReplayQuery,
    answer: Replay,
  },
  preflight: {
    ...paths.preflight,
    role: 'viewer',
    group: 'Publications',
    summary: 'All that is to be known of publications, as they are saved, before they go live',
    body: z.object({ ids: z.array(Id).min(1, 'Which publications?').max(100, 'At most 100 at once') }),
    answer: list(Preflight),
  },
  listVersions: {
    ...paths.listVersions,
    role: 'viewer',
    group: 'Publications',
    summary: 'What was frozen at each go-live, the newest first',
    answer: list(Version),
  },
  messageOrigins: {
    ...paths.messageOrigins,
    role: 'viewer',
    group: 'Publications',
    summary: 'From which tags, and which places of which devices, the members of a message to a place were made',
    query: z.object({ place: z.string().min(1).max(65_535) }),
    answer: MessageOrigins,
  },
  versionDifferences: {
    ...paths.versionDifferences,
    role: 'viewer',
    group: 'Publications',
    summary: 'In what two versions differ: settings, and what receivers see of each equipment',
    query: z.object({ from: z.coerce.number().int().min(1), to: z.coerce.number().int().min(1) }),
    answer: VersionDifferences,
  },
  goBack: {
    ...paths.goBack,
    role: 'engineer',
    group: 'Publications',
    summary: 'Go live with an earlier version as it was frozen; what is written since stays as it is written',
    body: z.object({ number: z.number().int().min(1) }),
    answer: Publication,
  },
  sayPublication: {
    ...paths.sayPublication,
    role: 'operator',
    group: 'Publications',
    summary: 'Say how things are, once now, beside its trigger; it has to be live',
    answer: z.object({ messages: z.number().int().describe('How many went; those without first values do not') }),
  },
  pausePublication: {
    ...paths.pausePublication,
    role: 'operator',
    group: 'Publications',
    summary: 'Pause',
    answer: Publication,
  },
  resumePublication: {
    ...paths.resumePublication,
    role: 'operator',
    group: 'Publications',
    summary: 'Go on with the version that was live',
    answer: Publication,
  },
} as const satisfies Record<string, Route>

import { z } from 'zod'
import { Id } from '../id'
import { FollowedTag, LATEST } from '../journal'
import { LiveValue } from '../live'
import { paths } from '../paths'
import {
  EditOutside,
  Group,
  GroupDraft,
  Outside,
  Tag,
  TagChange,
  TagEdit,
  TagEditLine,
  TagImported,
  TagNames,
  TagNote,
  TagPattern,
  TagPatternDraft,
  TagsAdd,
  TagsDelete,
  TagUse,
  TagWrite,
  TagWritten,
} from '../tag'
import { list, type Route } from './route'

/** What fits into the line of a request. */
const Ids = z
  .string()
  .transform((text) => text.split(','))
  .pipe(z.array(Id).min(1).max(200))
  .describe('Ids with commas between them, 200 at most')

/** Tags and sampling groups. */
export const tagRoutes = {
  listTags: {
    ...paths.listTags,
    role: 'viewer',
    group: 'Tags',
    summary: 'All tags; or those of one source, those that fill members of some equipment, or the first by their names',
    query: z.object({
      source: Id.optional(),
      equipment: Ids.optional(),
      first: z.coerce.number().int().min(1).max(1000).optional().describe('So many, in the order of their names'),
    }),
    answer: list(Tag),
  },
  usedTags: {
    ...paths.usedTags,
    role: 'viewer',
    group: 'Tags',
    summary: 'Handles of the tags that fill members of equipment, also through expressions',
    answer: list(z.number().int()),
  },
  addTags: { ...paths.addTags, role: 'engineer', group: 'Tags', summary: 'Add tags: all or none', body: TagsAdd, answer: list(Tag) },
  changeTag: {
    ...paths.changeTag,
    role: 'engineer',
    group: 'Tags',
    summary: 'Rename a tag or change its properties',
    body: TagChange,
    answer: Tag,
  },
  removeTags: {
    ...paths.removeTags,
    role: 'engineer',
    group: 'Tags',
    summary: 'Remove tags: all or none',
    body: TagsDelete,
    answer: null,
  },
  tagUse: { ...paths.tagUse, role: 'viewer', group: 'Tags', summary: 'What uses a tag', answer: TagUse },
  followTag: {
    ...paths.followTag,
    role: 'viewer',
    group: 'Tags',
    summary: 'The first message of each live publication that was made since a moment and carries a tag',
    query: z.object({ since: z.coerce.number().min(0).max(LATEST).describe('Epoch ms') }),
    answer: list(FollowedTag),
  },
  tagValues: {
    ...paths.tagValues,
    role: 'viewer',
    group: 'Tags',
    summary: 'Present values by handle, as 1-40,52',
    query: z.object({ tags: z.string() }),
    answer: list(LiveValue),
  },
  writeTag: {
    ...paths.writeTag,
    role: 'operator',
    group: 'Tags',
    summary: 'Write a value to the device and read it back',
    body: TagWrite,
    answer: TagWritten,
  },
  tagNote: {
    ...paths.tagNote,
    role: 'viewer',
    group: 'Tags',
    summary: "Why a tag is as it is, in its protocol's words, with the bytes that could not be read",
    query: z.object({ status: z.coerce.number().optional().describe('Of no effect: lets a caller ask anew when it changes') }),
    answer: TagNote,
  },
  editTags: {
    ...paths.editTags,
    role: 'engineer',
    group: 'Tags',
    summary: 'Add, change and remove many tags together, all or none; tells how far it is, then what came of it and the edit that takes it back',
    body: TagEdit,
    bodyMax: 128,
    answer: TagEditLine,
    stream: 'ndjson',
  },
  exportTags: {
    ...paths.exportTags,
    role: 'viewer',
    group: 'Tags',
    summary: 'All tags as CSV (RFC 4180, UTF-8), with the columns that an import takes',
    answer: z.string(),
    as: 'text/csv',
  },
  importTags: {
    ...paths.importTags,
    role: 'engineer',
    group: 'Tags',
    summary: 'A dry run of CSV or other separated text, and with apply=good or apply=all the edit itself, in one transaction',
    query: z.object({
      apply: z.enum(['no', 'good', 'all']).default('no').describe('all: nothing is done when a row is faulty; good: faulty rows are left out'),
    }),
    body: z.instanceof(Uint8Array),
    bodyMax: 64,
    from: 'text/csv',
    answer: TagImported,
  },
  tagStates: {
    ...paths.tagStates,
    role: 'viewer',
    group: 'Tags',
    summary: 'Value, status and times of every tag as columns of bytes; core/tag/states.ts has the layout',
    answer: z.string(),
    as: 'application/octet-stream',
  },
  renamedOutside: {
    ...paths.renamedOutside,
    role: 'viewer',
    group: 'Tags',
    summary: 'What new names of tags would change outside: topics and names in payloads',
    body: TagNames,
    bodyMax: 32,
    answer: Outside,
  },
  editedOutside: {
    ...paths.editedOutside,
    role: 'viewer',
    group: 'Tags',
    summary: 'What a change of one tag would change for receivers at the next go-live',
    body: TagChange,
    answer: EditOutside,
  },
  listPatterns: {
    ...paths.listPatterns,
    role: 'viewer',
    group: 'Tags',
    summary: 'All patterns of tags',
    answer: list(TagPattern),
  },
  addPattern: {
    ...paths.addPattern,
    role: 'engineer',
    group: 'Tags',
    summary: 'Keep a pattern of tags',
    body: TagPatternDraft,
    answer: TagPattern,
  },
  removePattern: {
    ...paths.removePattern,
    role: 'engineer',
    group: 'Tags',
    summary: 'Remove a pattern; tags made from it stay',
    answer: null,
  },
  listGroups: {
    ...paths.listGroups,
    role: 'viewer',
    group: 'Tags',
    summary: 'All sampling groups',
    answer: list(Group),
  },
  addGroup: {
    ...paths.addGroup,
    role: 'engineer',
    group: 'Tags',
    summary: 'Add a sampling group',
    body: GroupDraft,
    answer: Group,
  },
  changeGroup: {
    ...paths.changeGroup,
    role: 'engineer',
    group: 'Tags',
    summary: 'Change a sampling group: its tags are read at the new rate',
    body: GroupDraft,
    answer: Group,
  },
  removeGroup: {
    ...paths.removeGroup,
    role: 'engineer',
    group: 'Tags',
    summary: 'Remove a sampling group to which no tag belongs',
    answer: null,
  },
} as const satisfies Record<string, Route>

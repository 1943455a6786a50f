import { z } from 'zod'
import { placeTemplate, TopicRule, template } from './text'

/** Columns as they are written: `'equipment, at'`. */
export const columnsOf = (text: string): string[] => text.split(',').flatMap((name) => name.trim() || [])

/** Where rows go: a table, and whether one that is there already is replaced. */
export const TableAddress = z.object({
  kind: z.literal('table'),
  topic: placeTemplate,
  topicRule: TopicRule.default('underscores').describe('How names become names of tables'),
  keys: template(500).default('').describe('Columns by which a row is known again and replaced, with commas between; empty: rows are added'),
})
export type TableAddress = z.infer<typeof TableAddress>

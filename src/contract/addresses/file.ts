import { z } from 'zod'
import { placeTemplate, TopicRule, template } from './text'

/** Types that a column of a file may be given. */
export const fileTypes = ['text', 'number', 'whole', 'truth', 'time'] as const
export type FileType = (typeof fileTypes)[number]

/** Columns with their types, as they are written: `'at time, count whole'`. Null: they are none. */
export function typesOf(text: string): ReadonlyMap<string, FileType> | null {
  const out = new Map<string, FileType>()
  for (const one of text.split(',')) {
    if (one.trim() === '') continue
    const [, column = '', type = ''] = /^\s*(.+?)\s+(\S+)\s*$/.exec(one) ?? []
    if (column === '' || !fileTypes.includes(type as FileType) || out.has(column)) return null
    out.set(column, type as FileType)
  }
  return out
}

/** In which file messages go: its path without what tells it from the next one there. */
export const FileAddress = z.object({
  kind: z.literal('file'),
  topic: placeTemplate,
  topicRule: TopicRule.default('slug').describe('How names become levels of the path'),
  types: template(1000)
    .default('')
    .refine((text) => typesOf(text) !== null, `A column and its type, with commas between: at time, count whole (${fileTypes.join(', ')})`)
    .describe('Types of columns, where a format has them: at time, count whole. What is not named is text, number or truth, as its values are'),
})
export type FileAddress = z.infer<typeof FileAddress>

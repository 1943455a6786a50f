import { z } from 'zod'

/** How names become levels of a topic or a path. */
export const TopicRule = z.enum(['slug', 'dashes', 'underscores', 'as-is'])
export type TopicRule = z.infer<typeof TopicRule>

export const template = (most: number) => z.string().trim().max(most, `At most ${most} characters`)

/** A header: a user property of MQTT 5 (3.3.2.3.7), a header of a stream. */
export const HeaderTemplate = z.object({
  name: z
    .string()
    .trim()
    .min(1, 'Which name?')
    .max(200)
    .refine((n) => !n.startsWith('embrik-'), 'Names that begin with embrik- are kept for message ids'),
  value: template(500),
})
export type HeaderTemplate = z.infer<typeof HeaderTemplate>

/** Where messages go, whatever that is called there. */
export const placeTemplate = template(500).describe(
  'Template: {enterprise} {site} {area} {centre} {unit} {path} {name} {class} {member} {tag} {fact.x} {external.x} {value.x} {time.year}',
)

/** What addresses of more than one kind have beside the place. */
export const besideTexts = {
  topicRule: TopicRule.default('slug').describe('How names become levels of the topic'),
  headers: z.array(HeaderTemplate).max(30, 'At most 30 headers').default([]),
  contentType: template(200).default('').describe('Empty: what the shape says'),
}

import { z } from 'zod'
import { Id } from './id'
import { Finding, Reach } from './publication'
import { VersionDifferences } from './version'

/** All that is to be known of a publication before it goes live. */
export const Preflight = z.object({
  id: Id,
  rootId: Id.describe('The publication that it goes live with: its own, unless it is a further clause'),
  name: z.string(),
  version: z.number().int().describe('Of the draft that was looked at'),
  findings: z.array(Finding),
  differences: VersionDifferences.nullable().describe('To the live version; null: nothing was live'),
  reach: Reach,
  acceptedBefore: z.array(z.string()).describe('Warnings that were accepted with the live version'),
})
export type Preflight = z.infer<typeof Preflight>

/** A warning that somebody accepted, as it was told. */
export const Accepted = z.object({ section: Finding.shape.section, message: z.string().max(2000) })
export type Accepted = z.infer<typeof Accepted>

/** A draft that somebody has looked at, as it was then. */
export const Looked = z.object({ id: Id, version: z.number().int() })
export type Looked = z.infer<typeof Looked>

/** What tells a warning from others. */
export const findingKey = ({ section, message }: Pick<Finding, 'section' | 'message'>): string => `${section}\n${message}`

/** Warnings that somebody has to accept before it goes live. */
export const toAccept = (findings: readonly Finding[]): Finding[] => findings.filter((f) => f.severity === 'warns' && !f.told)

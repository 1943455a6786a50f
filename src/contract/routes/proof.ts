import { z } from 'zod'
import { Clocks } from '../clock'
import { Compared, CompareQuery } from '../compare'
import { BrickWhole, CourseFigures, EventLine, EventRow, LedgerLine, Wall, Watch } from '../live'
import { paths } from '../paths'
import { FoundWay, WayQuery } from '../way'
import { WhatIsWrong } from '../wrong'
import { list, type Route } from './route'

/** Epoch ms, within what a date can be (ECMA-262 21.4.1.1). */
const time = z.coerce.number().int().min(0).max(8.64e15)

/** Ledger, wall, events and the live stream. */
export const proofRoutes = {
  ledger: {
    ...paths.ledger,
    role: 'viewer',
    group: 'Proof',
    summary: 'Counts of every publication and destination',
    answer: list(LedgerLine),
  },
  wall: {
    ...paths.wall,
    role: 'viewer',
    group: 'Proof',
    summary: 'The wall: bricks of a slice width between two times (epoch ms)',
    query: z.object({
      from: time,
      to: time,
      sliceMs: z.coerce
        .number()
        .int()
        .min(10_000)
        .max(366 * 86_400_000),
    }),
    answer: Wall,
  },
  brick: {
    ...paths.brick,
    role: 'viewer',
    group: 'Proof',
    summary: 'One brick of the wall: which messages did not arrive as they should, and how long the others took',
    query: z.object({ from: time, to: time }),
    answer: BrickWhole,
  },
  latency: {
    ...paths.latency,
    role: 'viewer',
    group: 'Proof',
    summary: 'Device time to witness over the last hour, as bars',
    answer: list(z.object({ ms: z.number(), count: z.number() })),
  },
  events: {
    ...paths.events,
    role: 'viewer',
    group: 'Proof',
    summary: 'What happened, newest first',
    query: z.object({
      limit: z.coerce.number().int().min(1).max(1000).default(200),
      from: time.optional(),
      to: time.optional(),
    }),
    answer: list(EventRow),
  },
  eventLine: {
    ...paths.eventLine,
    role: 'viewer',
    group: 'Proof',
    summary: 'What happened in each slice between two times (epoch ms), and the versions that went live',
    query: z.object({ from: time, to: time, sliceMs: z.coerce.number().int().min(1000) }),
    answer: EventLine,
  },
  whatIsWrong: {
    ...paths.whatIsWrong,
    role: 'viewer',
    group: 'Proof',
    summary: 'What is wrong now, what was in the last hour, what will be, and what became of the messages of the last 24 hours',
    answer: WhatIsWrong,
  },
  clocks: {
    ...paths.clocks,
    role: 'viewer',
    group: 'Proof',
    summary: 'How far the clock of every peer that tells its time is from ours',
    answer: Clocks,
  },
  sideBySide: {
    ...paths.sideBySide,
    role: 'viewer',
    group: 'Proof',
    summary: 'Tags beside where they arrive, by what was recorded of both: how far apart they are, and what is recognised in it',
    body: CompareQuery,
    answer: Compared,
  },
  findHop: {
    ...paths.findHop,
    role: 'viewer',
    group: 'Proof',
    summary: 'The way of a tag, a publication or all that goes to a destination, hop by hop, and the hop at which it stops',
    query: WayQuery,
    answer: FoundWay,
  },
  conditions: {
    ...paths.conditions,
    role: 'viewer',
    group: 'Proof',
    summary: 'How every source, publication and destination is doing',
    answer: z.object({
      sources: z.record(z.string(), z.unknown()),
      publications: z.record(z.string(), z.unknown()),
      destinations: z.record(z.string(), z.unknown()),
      course: CourseFigures,
    }),
  },
  live: {
    ...paths.live,
    role: 'viewer',
    group: 'Proof',
    summary: 'Live values and states of what is watched',
    query: Watch.extend({ messages: z.string().default(''), spark: z.string().default('') }),
    answer: z.unknown(),
    stream: 'sse',
  },
} as const satisfies Record<string, Route>

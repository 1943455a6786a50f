import { z } from 'zod'
import { Clocks } from '../clock'
import { BrickWhole, CourseFigures, EventLine, EventRow, LedgerLine, Wall, Watch } from '../live'
import { FoundWay, WayQuery } from '../way'
import { WhatIsWrong } from '../wrong'
import { list, type Route } from './route'

/** Epoch ms, within what a date can be (ECMA-262 21.4.1.1). */
const time = z.coerce.number().int().min(0).max(8.64e15)

/** Ledger, wall, events and the live stream. */
export const proofRoutes = {
  ledger: {
    method: 'GET',
    path: '/api/ledger',
    role: 'viewer',
    group: 'Proof',
    summary: 'Counts of every publication and destination',
    answer: list(LedgerLine),
  },
  wall: {
    method: 'GET',
    path: '/api/wall',
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
    method: 'GET',
    path: '/api/wall/:delivery',
    role: 'viewer',
    group: 'Proof',
    summary: 'One brick of the wall: which messages did not arrive as they should, and how long the others took',
    query: z.object({ from: time, to: time }),
    answer: BrickWhole,
  },
  latency: {
    method: 'GET',
    path: '/api/latency/:delivery',
    role: 'viewer',
    group: 'Proof',
    summary: 'Device time to witness over the last hour, as bars',
    answer: list(z.object({ ms: z.number(), count: z.number() })),
  },
  events: {
    method: 'GET',
    path: '/api/events',
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
    method: 'GET',
    path: '/api/events/line',
    role: 'viewer',
    group: 'Proof',
    summary: 'What happened in each slice between two times (epoch ms), and the versions that went live',
    query: z.object({ from: time, to: time, sliceMs: z.coerce.number().int().min(1000) }),
    answer: EventLine,
  },
  whatIsWrong: {
    method: 'GET',
    path: '/api/wrong',
    role: 'viewer',
    group: 'Proof',
    summary: 'What is wrong now, what was in the last hour, what will be, and what became of the messages of the last 24 hours',
    answer: WhatIsWrong,
  },
  clocks: {
    method: 'GET',
    path: '/api/clocks',
    role: 'viewer',
    group: 'Proof',
    summary: 'How far the clock of every peer that tells its time is from ours',
    answer: Clocks,
  },
  findHop: {
    method: 'GET',
    path: '/api/way',
    role: 'viewer',
    group: 'Proof',
    summary: 'The way of a tag, a publication or all that goes to a destination, hop by hop, and the hop at which it stops',
    query: WayQuery,
    answer: FoundWay,
  },
  conditions: {
    method: 'GET',
    path: '/api/conditions',
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
    method: 'GET',
    path: '/api/live',
    role: 'viewer',
    group: 'Proof',
    summary: 'Live values and states of what is watched',
    query: Watch.extend({ messages: z.string().default(''), spark: z.string().default('') }),
    answer: z.unknown(),
    stream: 'sse',
  },
} as const satisfies Record<string, Route>

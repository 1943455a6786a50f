import { z } from 'zod'

/** What a peer says that time it is, held against the clock of this machine. */
export const PeerClock = z.object({
  kind: z.enum(['database', 'source', 'destination']),
  id: z.string().nullable(),
  name: z.string(),
  how: z.string().describe('In which way it tells its time'),
  offsetMs: z.number().describe('So much its clock is ahead of ours; below zero: behind'),
  withinMs: z.number().describe('So exactly that is known: half of how long it took to answer, and what its way of telling leaves out'),
  at: z.number().describe('When it told, epoch ms by the clock of this machine'),
})
export type PeerClock = z.infer<typeof PeerClock>

export const Clocks = z.object({
  at: z.number().describe('Epoch ms, by the clock of this machine'),
  peers: z.array(PeerClock).describe('The furthest off first'),
  silent: z.array(z.object({ kind: PeerClock.shape.kind, id: z.string(), name: z.string(), why: z.string() })).describe('Those that tell no time'),
})
export type Clocks = z.infer<typeof Clocks>

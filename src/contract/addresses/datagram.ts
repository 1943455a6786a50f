import { z } from 'zod'
import { placeTemplate } from './text'

/** Where datagrams go: a group or a host, and the port. */
export const DatagramAddress = z.object({
  kind: z.literal('datagram'),
  topic: placeTemplate,
})
export type DatagramAddress = z.infer<typeof DatagramAddress>

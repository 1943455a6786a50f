import { z } from 'zod'
import { besideTexts, placeTemplate, template } from './text'

export const Qos = z.union([z.literal(0), z.literal(1), z.literal(2)])
export type Qos = z.infer<typeof Qos>

/** Where and how messages are published over MQTT. */
export const MqttAddress = z.object({
  kind: z.literal('mqtt'),
  topic: placeTemplate,
  ...besideTexts,
  responseTopic: template(500).default('').describe('Template: where an answer is expected'),
  expiryS: z
    .number()
    .int()
    .min(1, 'At least 1 s')
    .max(4_294_967_295)
    .nullable()
    .default(null)
    .describe('The receiver need not get it after so long, s'),
  qos: Qos,
  retain: z.boolean(),
})
export type MqttAddress = z.infer<typeof MqttAddress>

import type { UserProperties } from 'mqtt-packet'

/** A message as the broker holds it. */
export interface Message {
  topic: string
  payload: Buffer
  qos: 0 | 1 | 2
  retain: boolean
  /** Epoch ms after which it is stale (MQTT 5 3.3.2.3.3). */
  expires: number | null
  properties: {
    payloadFormatIndicator?: boolean | undefined
    contentType?: string | undefined
    responseTopic?: string | undefined
    correlationData?: Buffer | undefined
    userProperties?: UserProperties | undefined
  }
  from: string
}

import { z } from 'zod'
import { hostField, paceFields, portField, timeoutField } from './pace'

/** How register numbers are written where people read them; what is stored counts from zero (MODBUS Application Protocol V1.1b3 4.4). */
export const RegisterNotation = z.enum(['offset', 'number', 'reference'])
export type RegisterNotation = z.infer<typeof RegisterNotation>

export const ModbusSettings = z.object({
  host: hostField.meta({ label: 'Host', help: 'Of the device, or of the gateway before it', group: 'Reach' }),
  port: portField.meta({ label: 'Port', help: '502 unless they say otherwise', group: 'Reach' }),
  probeUnit: z
    .number({ error: 'A unit id' })
    .int()
    .min(0)
    .max(255, 'From 0 to 255')
    .meta({ label: 'Unit to check', help: 'The check reads one register of this unit id', group: 'Reach' }),
  notation: RegisterNotation.meta({
    label: 'Show registers as',
    help: 'offset: from 0. number: from 1. reference: 40001 and up',
    group: 'Registers',
  }),
  gap: z
    .number({ error: 'A number of registers' })
    .int()
    .min(0)
    .max(120)
    .meta({ label: 'Read over gaps of', unit: 'registers', help: 'Unwanted registers read along to save a request', group: 'Registers' }),
  maxRegisters: z
    .number({ error: 'A number of registers' })
    .int()
    .min(1)
    .max(125, 'At most 125: more does not fit one answer')
    .meta({ label: 'At most', unit: 'a request', help: 'Some devices answer fewer than 125', group: 'Registers' }),
  writes: z.enum(['single', 'multiple']).meta({
    label: 'Write by',
    help: 'single: function codes 5 and 6. multiple: always 15 and 16, for devices that know no others',
    group: 'Registers',
  }),
  timeoutMs: timeoutField.meta({ label: 'Answer within', unit: 'ms', help: 'A unit that is silent longer is asked less often', group: 'Pace' }),
  ...paceFields,
})
export type ModbusSettings = z.infer<typeof ModbusSettings>

/** A stretch of registers or bits to look at, as the register bench asks for it. */
export const RegisterQuery = z.object({
  unit: z.number().int().min(0).max(255),
  area: z.enum(['coil', 'discrete', 'input', 'holding']),
  offset: z.number().int().min(0).max(65_535),
  count: z.number().int().min(1).max(120),
})
export type RegisterQuery = z.infer<typeof RegisterQuery>

/** One look at them: raw words (or bits as 0 and 1) with holes where there are none, or why there is no answer. */
export const RegisterLook = z.object({
  at: z.number().describe('Epoch ms'),
  ms: z.number().describe('Round trip'),
  words: z.array(z.number().int().nullable()).describe('Null where the device has no register'),
  problem: z.string().optional(),
  hint: z.string().optional(),
})
export type RegisterLook = z.infer<typeof RegisterLook>

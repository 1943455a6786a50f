import { connect } from 'node:net'
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest'
import type { SettingsOf } from '~/contract/source'
import { modbusDriver } from '~/engine/sources/modbus/driver'
import { Gate } from '~/standins/gate'
import { gasMeterAt, powerMeterAt } from '~/standins/modbus/model'
import { FieldServer, noFieldFaults } from '~/standins/modbus/server'
import { worksUnits } from '~/standins/modbus/units'
import { checked, opened, states, targetOf } from './source-support'
import { freePort, until } from './support'

let field: FieldServer
let gate: Gate
let port: number
let seconds = 30

beforeAll(async () => {
  const inner = await freePort()
  port = await freePort()
  field = await FieldServer.start(
    inner,
    worksUnits(() => seconds),
  )
  gate = await Gate.open(port, inner)
})
afterEach(() => {
  field.faults = { ...noFieldFaults }
  seconds = 30
})
afterAll(async () => {
  await gate.close()
  await field.stop()
})

const settings = (more: Partial<SettingsOf<'modbus'>> = {}): SettingsOf<'modbus'> => ({
  host: '127.0.0.1',
  port,
  probeUnit: 1,
  notation: 'reference',
  gap: 8,
  maxRegisters: 100,
  writes: 'single',
  timeoutMs: 300,
  rateMs: 100,
  retryMs: 500,
  ...more,
})
const target = (more: Partial<SettingsOf<'modbus'>> = {}) => targetOf('modbus', settings(more))
const number = (handle: number, address: string) => ({ handle, address, dataType: 'number' as const })

describe('checking', () => {
  it('passes when the unit answers', async () => {
    const steps = await checked(modbusDriver, target())
    expect(states(steps)).toEqual({ name: 'passed', port: 'passed', unit: 'passed' })
    expect(steps.unit!.detail).toContain('holding@0')
  })

  it.each([
    ['a port where nobody listens', { port: 1 }, 'port', 'port.refused'],
    ['a unit id behind which nobody is', { probeUnit: 99 }, 'unit', 'modbus.exception-11'],
  ] as const)('finds %s', async (_, more, step, code) => {
    const failure = (await checked(modbusDriver, target(more)))[step]!.failure!
    expect(failure.code).toBe(code)
    expect(failure.hint).not.toBe('')
  })

  it('finds a silent unit, and says how long it waited', async () => {
    field.faults = { ...noFieldFaults, silentUnit: 1 }
    const failure = (await checked(modbusDriver, target())).unit!.failure!
    expect(failure).toMatchObject({
      code: 'modbus.silent',
      message: 'Unit 1 does not answer within 300 ms',
      hint: expect.stringContaining('unit id'),
    })
  })
})

it('reads every type from its device, in the fewest requests', async () => {
  const before = field.requests
  const o = await opened(modbusDriver, target({ rateMs: 60_000 }))
  await o.connection.setTags([
    number(1, '1 input@0 int16 x0.1'),
    { handle: 2, address: '1 input@4.0', dataType: 'boolean' },
    { handle: 3, address: '1 discrete@0', dataType: 'boolean' },
    { handle: 4, address: '1 coil@0', dataType: 'boolean' },
    { handle: 5, address: '1 holding@40 text/16', dataType: 'text' },
    number(6, '11 input@0 uint32'),
    number(7, '11 input@2 float32'),
    number(8, '12 holding@100 float32 CDAB'),
    number(9, '12 holding@102 uint32 CDAB'),
    number(10, '12 holding@104 uint16 x0.001'),
  ])
  await until(() => o.values.size === 10, 'all values')
  const value = (h: number) => o.values.get(h)!.value as number
  expect(value(1)).toBeGreaterThan(20)
  expect([value(2), value(3), value(4)]).toEqual([false, false, false])
  expect(value(5)).toBe('VC-DRY-1')
  expect(value(6)).toBe(gasMeterAt(30).total)
  expect(value(7)).toBeCloseTo(gasMeterAt(30).flow, 3)
  expect(value(8)).toBeCloseTo(powerMeterAt(0, 30).power, 3)
  expect(value(9)).toBe(powerMeterAt(0, 30).energy)
  expect(value(10)).toBeCloseTo(powerMeterAt(0, 30).powerFactor, 3)
  expect([...o.values.values()].every((v) => v.status === 0)).toBe(true)
  // input, discrete, coil and holding of unit 1, one of unit 11, one of unit 12.
  expect(field.requests - before).toBe(6)
  expect(o.trips.length).toBe(6)
  await o.connection.close()
})

it('an address that does not exist is bad by itself, with the exception kept, and takes no neighbour along', async () => {
  const o = await opened(modbusDriver, target())
  await o.connection.setTags([
    number(1, '1 input@0'),
    number(2, '1 input@9'),
    number(3, '1 input@3'),
    number(4, '1 holding@nonsense'),
    number(5, '1 input@4 float64'),
  ])
  await until(() => [1, 2, 3, 4, 5].every((h) => o.values.has(h)), 'all are told')
  expect(o.values.get(1)!.status).toBe(0)
  expect(o.values.get(3)!.status).toBe(0)
  expect(o.values.get(2)!.status).toBe(0x80340000)
  expect(o.notes.get(2)).toMatchObject({ code: 'exception 2', text: expect.stringContaining('no such register') })
  expect(o.values.get(4)!.status).toBe(0x80330000)
  expect(o.values.get(5)!.status).toBe(0x80340000)
  await o.connection.close()
})

it('a slow and a silent unit hold up nobody else, and the silent one is asked less and less often', async () => {
  field.faults = { ...noFieldFaults, silentUnit: 2 }
  const o = await opened(modbusDriver, target({ timeoutMs: 1000, retryMs: 1000 }))
  await o.connection.setTags([number(1, '1 input@0'), number(2, '2 input@0'), number(5, '5 input@0'), number(6, '2 holding@10')])
  await until(() => (o.counts.get(1) ?? 0) >= 25 && o.values.get(2)?.status === 0x800a0000, 'the quick unit is read on')
  // Unit 5 takes 450 ms an answer: it has its own pace.
  expect(o.counts.get(5)!).toBeLessThan(o.counts.get(1)! / 3)
  expect(o.notes.get(2)!.text).toContain('Unit 2 does not answer')
  await until(() => o.values.get(6)?.status === 0x800a0000, 'all of the silent unit are told')
  field.faults = { ...noFieldFaults }
  await until(() => o.values.get(2)?.status === 0, 'it is back', 20)
  await o.connection.close()
})

it('reads each block at its own rate', async () => {
  const o = await opened(modbusDriver, target())
  await o.connection.setTags([number(1, '1 input@0'), { ...number(2, '1 input@1'), sampleMs: 1000 }])
  await until(() => (o.counts.get(1) ?? 0) >= 12, 'a dozen rounds')
  expect(o.counts.get(2)!).toBeLessThanOrEqual(3)
  await o.connection.close()
})

describe('what devices do wrong', () => {
  it('exceptions give a status with the code; the connection stays', async () => {
    const o = await opened(modbusDriver, target())
    await o.connection.setTags([number(1, '1 input@0')])
    await until(() => o.values.get(1)?.status === 0, 'a value')
    field.faults = { ...noFieldFaults, exception: 4 }
    await until(() => o.values.get(1)?.status === 0x808b0000, 'device failure')
    // The last value stands, marked as bad.
    expect(o.values.get(1)!.value).not.toBeNull()
    expect(o.notes.get(1)!.code).toBe('exception 4')
    field.faults = { ...noFieldFaults }
    await until(() => o.values.get(1)?.status === 0, 'good again')
    expect(o.downs).toEqual([])
    await o.connection.close()
  })

  it('short frames are told as such, and after some the connection is begun anew', async () => {
    field.faults = { ...noFieldFaults, shortFrames: true }
    const o = await opened(modbusDriver, target())
    await o.connection.setTags([number(1, '1 input@0 int32')])
    await until(() => o.downs.length === 1, 'the loss')
    expect(o.values.get(1)!.status).toBe(0x80050000)
    expect(o.downs[0]).toContain('damaged frames')
    await o.connection.close()
  })

  it('a cut link is told once', async () => {
    const o = await opened(modbusDriver, target())
    await o.connection.setTags([number(1, '1 input@0')])
    await until(() => o.values.has(1), 'a value')
    gate.cut(0.3)
    await until(() => o.downs.length === 1, 'the loss')
    await o.connection.close()
    await until(() => !gate.isShut(), 'the link is back')
  })

  it('something that is no Modbus at all is not taken for a device', async () => {
    const { createServer } = await import('node:net')
    const other = await freePort()
    const server = createServer((s) => s.on('data', () => s.write('HTTP/1.1 400 Bad Request\r\n\r\n')).on('error', () => undefined))
    await new Promise<void>((done) => server.listen(other, '127.0.0.1', done))
    expect(['modbus.silent', 'modbus.garbled']).toContain((await checked(modbusDriver, target({ port: other }))).unit!.failure!.code)
    server.close()
  })
})

describe('writing', () => {
  it.each(['single', 'multiple'] as const)('with %s codes: registers, scaled values, coils, each read back', async (writes) => {
    const o = await opened(modbusDriver, target({ writes }))
    const write = (address: string, value: number | boolean) => o.connection.write!({ handle: 1, address, dataType: 'number' }, value)
    expect(await write('1 holding@0 int16 x0.1', 88.5)).toBe(88.5)
    expect(await write('1 coil@0', true)).toBe(true)
    expect(await write('1 coil@0', false)).toBe(false)
    expect(await write('1 holding@0 int16 x0.1', 92)).toBe(92)
    await o.connection.close()
  })

  it('is refused in words: what cannot be written, what does not fit, what the device refuses', async () => {
    const o = await opened(modbusDriver, target())
    const write = (address: string, value: number | boolean | string) => o.connection.write!({ handle: 1, address, dataType: 'number' }, value)
    await expect(write('1 input@0', 1)).rejects.toThrow('cannot be written')
    await expect(write('1 holding@0 int16 x0.1', 12.34)).rejects.toThrow('steps of 0.1')
    await expect(write('1 holding@0 int16', 'x')).rejects.toThrow('This is a number')
    await expect(write('1 holding@0 int16', 5)).rejects.toThrow('Exception 3')
    await expect(write('1 holding@99 int16', 5)).rejects.toThrow('Exception 2')
    await o.connection.close()
  })
})

it('the bench shows raw registers until its asker goes, and why there are none', async () => {
  const stop = new AbortController()
  const looks = []
  for await (const look of modbusDriver.registers!(
    target({ maxRegisters: 6, timeoutMs: 10_000 }),
    { unit: 12, area: 'holding', offset: 96, count: 20 },
    stop.signal,
  )) {
    looks.push(look)
    if (looks.length === 2) stop.abort()
  }
  expect(looks.length).toBe(2)
  const view = new DataView(new ArrayBuffer(4))
  view.setFloat32(0, powerMeterAt(0, 30).power)
  expect(looks[0]!.words.slice(4, 6)).toEqual([view.getUint16(2), view.getUint16(0)])
  // Holes where the device has nothing, at either end and in the middle; found out once.
  for (const look of looks)
    expect(look.words.flatMap((w, i) => (w === null ? [96 + i] : []))).toEqual([96, 97, 98, 99, 105, 110, 111, 112, 113, 114, 115])
  const again = new AbortController()
  for await (const look of modbusDriver.registers!(target({ timeoutMs: 10_000 }), { unit: 12, area: 'input', offset: 0, count: 4 }, again.signal)) {
    expect(look).toMatchObject({ words: [], problem: 'Exception 2: illegal data address' })
    again.abort()
  }
})

it('the stand-in ends a connection whose frames make no sense', async () => {
  const socket = connect({ port, host: '127.0.0.1' })
  const closed = new Promise<void>((done) => socket.on('close', () => done()))
  socket.on('error', () => undefined)
  socket.write(Buffer.from([0, 1, 9, 9, 0, 6, 1, 3, 0, 0, 0, 1]))
  await closed
})

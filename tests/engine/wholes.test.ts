import { createServer, type Server } from 'node:http'
import { OPCUACertificateManager } from 'node-opcua-certificate-manager'
import { DataType, MessageSecurityMode, SecurityPolicy, VariantArrayType } from 'node-opcua-client'
import { OPCUAServer } from 'node-opcua-server'
import protobuf from 'protobufjs/minimal.js'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { DataType as TagType } from '~/contract/tag'
import { Status } from '~/core/value/quality'
import { encodeRegisters } from '~/core/value/register'
import { httpDriver } from '~/engine/sources/http/driver'
import { modbusDriver } from '~/engine/sources/modbus/driver'
import { TopicReader } from '~/engine/sources/mqtt/reader'
import { makeApplicationCertificate } from '~/engine/sources/opcua/application'
import { opcuaDriver } from '~/engine/sources/opcua/driver'
import { sqlDriver } from '~/engine/sources/sql/driver'
import { FieldServer } from '~/standins/modbus/server'
import type { Unit } from '~/standins/modbus/units'
import { opened, targetOf } from './source-support'
import { certificates, folder, freePort, until } from './support'

const MOST = 2n ** 63n - 1n
/** The ends of 64 bits, 2^53 and what lies beside them. */
const signed = [MOST, MOST - 1n, 2n ** 53n + 1n, 2n ** 53n, 2n ** 53n - 1n, 0n, -1n, -(2n ** 53n) - 1n, -(2n ** 63n)]
const unsigned = [2n ** 64n - 1n, 2n ** 63n, MOST]
/** As a tag has it: a number up to 2^53 - 1. */
const held = (n: bigint) => (n > -(2n ** 53n) && n < 2n ** 53n ? Number(n) : n)
const as =
  (n: number, dataType: TagType = 'integer') =>
  (name: string) => ({ handle: n, address: name, dataType })

describe('whole numbers of 64 bits come exactly as they are', () => {
  let web: Server
  let url: string
  const text = (list: readonly bigint[]) => `{${list.map((n, i) => `"n${i}":${n}`).join(',')}}`

  beforeAll(async () => {
    web = createServer((_req, res) => res.setHeader('content-type', 'application/json').end(text([...signed, ...unsigned, 2n ** 64n])))
    const port = await freePort()
    await new Promise<void>((done) => web.listen(port, '127.0.0.1', done))
    url = `http://127.0.0.1:${port}/`
  })
  afterAll(() => void web.close())

  it('out of a JSON document; beyond 64 bits there is no value, and a reason', async () => {
    const o = await opened(
      httpDriver,
      targetOf('http', { url, login: 'none', user: '', headers: '', authorityId: null, timeoutMs: 2000, rateMs: 100, retryMs: 500 }),
    )
    const all = [...signed, ...unsigned]
    await o.connection.setTags([...all, 0n].map((_, i) => as(i, 'integer')(`/n${i}`)))
    await until(() => o.values.size === all.length + 1, 'all values')
    expect(all.map((_, i) => o.values.get(i)!.value)).toEqual(all.map(held))
    expect(o.values.get(all.length)).toMatchObject({ value: null, status: Status.outOfRange })
    expect(o.notes.get(all.length)!.text).toContain('18446744073709551616 is beyond 64 bits')
    await o.connection.setTags([as(1, 'number')('/n0'), as(2, 'number')('/n3'), as(3, 'text')('/n0')])
    await until(() => o.values.get(3)?.value === '9223372036854775807', 'the texts')
    expect(o.values.get(1)).toMatchObject({ value: Number(MOST), status: Status.subNormal })
    expect(o.notes.get(1)!.text).toContain('make the tag an integer')
    expect(o.values.get(2)).toMatchObject({ value: 2 ** 53, status: Status.good })
    await o.connection.close()
  })

  it('out of a database', async () => {
    const at = new URL(process.env.EMBRIK_TEST_DATABASE_URL!)
    const all = [...signed, ...unsigned]
    const query = `select ${[...signed.map((n, i) => `(${n})::bigint as n${i}`), ...unsigned.map((n, i) => `(${n})::numeric as u${i}`)].join(', ')}`
    const settings = {
      host: at.hostname,
      port: Number(at.port),
      database: at.pathname.slice(1),
      tls: false,
      authorityId: null,
      user: decodeURIComponent(at.username),
      query,
      keyColumn: '',
      timeoutMs: 2000,
      rateMs: 60_000,
      retryMs: 500,
    }
    const o = await opened(sqlDriver, targetOf('sql', settings, { password: decodeURIComponent(at.password) }))
    await o.connection.setTags(all.map((_, i) => as(i)(i < signed.length ? `/n${i}` : `/u${i - signed.length}`)))
    await until(() => o.values.size === all.length, 'all values')
    expect(all.map((_, i) => o.values.get(i)!.value)).toEqual(all.map(held))
    await o.connection.close()
  })

  it('out of registers, in every order, and back into them', async () => {
    const words = new Map<number, number>()
    const put = (offset: number, n: bigint, type: 'int64' | 'uint64', order: string) => {
      for (const [i, w] of encodeRegisters(n, type, order)!.entries()) words.set(offset + i, w)
    }
    const orders = ['ABCDEFGH', 'GHEFCDAB', 'HGFEDCBA']
    const tags: ReturnType<ReturnType<typeof as>>[] = []
    const wanted: (number | bigint)[] = []
    for (const order of orders)
      for (const [type, list] of [
        ['int64', signed],
        ['uint64', unsigned],
      ] as const)
        for (const n of list) {
          const offset = tags.length * 4
          put(offset, n, type, order)
          tags.push(as(tags.length)(`1 holding@${offset} ${type}${order === 'ABCDEFGH' ? '' : ` ${order}`}`))
          wanted.push(held(n))
        }
    const unit: Unit = {
      read: (_area, offset) => words.get(offset) ?? 0,
      write: (_area, offset, value) => words.set(offset, value) !== undefined,
      delay: () => 0,
    }
    const port = await freePort()
    const field = await FieldServer.start(port, new Map([[1, unit]]))
    const settings = {
      host: '127.0.0.1',
      port,
      probeUnit: 1,
      notation: 'reference',
      gap: 8,
      maxRegisters: 100,
      writes: 'multiple',
      timeoutMs: 2000,
      rateMs: 50,
      retryMs: 500,
    } as const
    const o = await opened(modbusDriver, targetOf('modbus', settings as never))
    await o.connection.setTags(tags)
    await until(() => o.values.size === tags.length, 'all values')
    expect(tags.map((_, i) => o.values.get(i)!.value)).toEqual(wanted)
    for (const n of [-(2n ** 63n), MOST, MOST - 1n]) expect(await o.connection.write!(tags[0]!, n)).toBe(n)
    await expect(o.connection.write!(tags[0]!, 2n ** 63n)).rejects.toThrow('does not fit int64')
    await o.connection.setTags([as(200, 'number')('1 holding@0 int64'), as(201)('1 holding@0 int64 x0.1')])
    await until(() => o.values.has(200) && o.values.has(201), 'the others')
    expect(o.values.get(200)!.status).toBe(Status.subNormal)
    expect(o.values.get(201)!.status).toBe(Status.subNormal)
    await o.connection.close()
    await field.stop()
  })

  it('out of an OPC UA server, and back to it', async () => {
    const port = await freePort()
    const own = (await certificates()).kiln
    const pki = new OPCUACertificateManager({ rootFolder: folder('wholes'), automaticallyAcceptUnknownCertificate: true })
    await pki.initialize()
    const server = new OPCUAServer({
      port,
      host: '127.0.0.1',
      hostname: '127.0.0.1',
      serverCertificateManager: pki,
      certificateFile: own.certificateFile,
      privateKeyFile: own.keyFile,
      securityModes: [MessageSecurityMode.None],
      securityPolicies: [SecurityPolicy.None],
      allowAnonymous: true,
    })
    await server.initialize()
    const space = server.engine.addressSpace!
    const ns = space.getOwnNamespace()
    const halves = (n: bigint) => [Number(BigInt.asUintN(64, n) >> 32n), Number(BigInt.asUintN(32, n))]
    const all = [...signed.map((n) => [n, DataType.Int64] as const), ...unsigned.map((n) => [n, DataType.UInt64] as const)]
    all.forEach(([n, dataType], i) => {
      const node = ns.addVariable({ browseName: `n${i}`, nodeId: `s=n${i}`, organizedBy: space.rootFolder.objects, dataType })
      node.setValueFromSource({ dataType, arrayType: VariantArrayType.Scalar, value: halves(n) })
    })
    await server.start()
    const target = targetOf('opcua', {
      endpoint: `opc.tcp://127.0.0.1:${port}`,
      mode: 'None',
      policy: 'None',
      login: 'anonymous',
      user: '',
      credentialId: null,
      samplingMs: 0,
      queue: 10,
      deadbands: 'here',
      serverThumbprint: '',
      rateMs: 100,
      retryMs: 500,
    } as never)
    const ctx = { application: await makeApplicationCertificate('000whole'), workFolder: folder('wholes-work') }
    const o = await opened(opcuaDriver, target, ctx)
    const tag = (i: number, dataType: TagType = 'integer') => as(i, dataType)(`ns=1;s=n${i}`)
    await o.connection.setTags(all.map((_, i) => tag(i)))
    await until(() => o.values.size === all.length, 'all values')
    expect(all.map((_, i) => o.values.get(i)!.value)).toEqual(all.map(([n]) => held(n)))
    expect(await o.connection.write!(tag(0), -(2n ** 63n))).toBe(-(2n ** 63n))
    expect(await o.connection.write!(tag(signed.length), 2n ** 64n - 2n)).toBe(2n ** 64n - 2n)
    await expect(o.connection.write!(tag(0), 2n ** 63n)).rejects.toThrow('does not fit Int64')
    await o.connection.close()
    await server.shutdown(0)
  }, 60_000)

  it('out of topics: bare, inside JSON, and as Sparkplug metrics', () => {
    const reader = new TopicReader({ timeField: '', qualityField: '', staleS: 0 })
    const all = [...signed, ...unsigned]
    reader.setTags(all.flatMap((_, i) => [as(i)(`n/${i}`), as(100 + i)(`doc#/n${i}`), as(200 + i)(`spBv1.0/g/e/d#n${i}`)]))
    for (const [i, n] of all.entries()) reader.message(`n/${i}`, Buffer.from(String(n)), 1)
    reader.message('doc', Buffer.from(text(all)), 1)
    const metrics = all.map((n, i) => {
      const w = protobuf.Writer.create()
        .uint32(10)
        .string(`n${i}`)
        .uint32(32)
        .uint32(i < signed.length ? 4 : 8)
      return w
        .uint32(88)
        .uint64(protobuf.util.Long ? (BigInt.asUintN(64, n).toString() as never) : 0)
        .finish()
    })
    const payload = protobuf.Writer.create().uint32(8).uint64(1)
    for (const m of metrics) payload.uint32(18).bytes(m)
    reader.message('spBv1.0/g/DBIRTH/e/d', payload.finish(), 1)
    const batch = reader.drain()!
    const got = new Map(batch.handles.map((h, i) => [h, batch.values[i]]))
    for (const from of [0, 100, 200]) expect(all.map((_, i) => got.get(from + i))).toEqual(all.map(held))
  })
})

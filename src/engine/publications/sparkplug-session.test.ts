import { describe, expect, it } from 'vitest'
import type { Plan } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import { mqttAddress } from '~/core/address/kinds/mqtt'
import { Runner } from '~/core/publication/runner'
import { kiln, member, settings } from '~/core/shape/shape-samples'
import { nodeData } from '~/core/shape/sparkplug-birth'
import { rebirthCommand } from '~/core/source/sparkplug'
import { Status } from '~/core/value/quality'
import { hostState } from '../destinations/session'
import { LiveTable } from '../live/table'
import { deviceLost, sparkplugSession } from './sparkplug-session'

const fill = (handle: number) => ({ kind: 'tag' as const, handle, width: 0, factor: 1, offset: 0 })
const equipment = [{ ...kiln, name: 'Zone/1', members: [member('t', 'number', { fill: fill(1) }), member('p', 'number', { fill: fill(2) })] }]
const shape = settings({ kind: 'sparkplug-b', group: 'works', node: 'edge', primaryHost: 'board' }) as Settings<'sparkplug-b'>
const message = { equipment: [0], members: null, steering: [], place: 'spBv1.0/works/DDATA/edge/Zone-1', key: '', headers: [], responseTopic: '' }
const plan = { publicationId: 'p', name: 'Node', number: 3, shape, address: mqttAddress.fresh, equipment, messages: [message] } as unknown as Plan

function session() {
  const table = new LiveTable()
  const runner = new Runner(plan)
  const said: string[] = []
  let waiting = 0
  const node = sparkplugSession(plan, shape, runner, table, { waiting: () => waiting, notYet: (words) => said.push(words) })
  return { table, runner, node, wait: (n: number) => (waiting = n) }
}

it('a topic is of one of its devices, or of none: of another version, node, kind or publication', () => {
  const { node } = session()
  expect(node.devices).toEqual(['Zone-1'])
  expect(node.deviceOf('spBv1.0/works/DDATA/edge/Zone-1')).toBe('Zone-1')
  for (const topic of ['spBv1.0/works/DDATA/edge/Zone-2', 'spBv1.0/works/DDATA/other/Zone-1', 'spBv1.0/works/DBIRTH/edge/Zone-1', 'works/x', ''])
    expect(node.deviceOf(topic), topic).toBeNull()
})

it('a device is lost when everything that is read for it is, and not before', () => {
  const { table, runner } = session()
  const cells = runner.cellsOfEquipment[0]!
  const set = (a: number, b: number) => table.apply({ handles: [1, 2], values: [1, 2], statuses: [a, b], times: [1, 1] })
  set(0, 0)
  expect(deviceLost(cells, table)).toBe(false)
  set(Status.lastUsable, 0)
  expect(deviceLost(cells, table)).toBe(false)
  set(Status.lastUsable, Status.timeout)
  expect(deviceLost(cells, table)).toBe(true)
  // Bad for another reason: the device speaks.
  set(Status.deviceFailure, Status.deviceFailure)
  expect(deviceLost(cells, table)).toBe(false)
  expect(deviceLost([], table)).toBe(false)
})

it('of the node itself only what changed since it was told', () => {
  const { node, wait } = session()
  node.birth(1, 1000)
  expect(node.news(2000)).toBeNull()
  wait(7)
  expect(node.news(3000)).not.toBeNull()
  expect(node.news(4000)).toBeNull()
})

describe('commands', () => {
  it('a rebirth is one for the node only; anything else is "not yet", with whom and what', () => {
    const { node } = session()
    expect(node.commands('spBv1.0/works/NCMD/edge', rebirthCommand(1))).toEqual([{ kind: 'rebirth' }])
    const write = nodeData(1, { a: 1, b: 2, c: 3, d: 4 })
    expect(node.commands('spBv1.0/works/DCMD/edge/Zone-1', write)).toEqual([
      { kind: 'not-yet', words: 'not yet: Zone-1 was told to write a, b, c and 1 more; writing is not built' },
    ])
    expect(node.commands('spBv1.0/works/DCMD/edge/Zone-1', rebirthCommand(1))![0]!.kind).toBe('not-yet')
  })
  it('octets that are no command, or for somebody else, ask for nothing', () => {
    const { node } = session()
    expect(node.commands('spBv1.0/works/NCMD/edge', Uint8Array.of(255, 255))).toBeNull()
    expect(node.commands('spBv1.0/works/NCMD/other', rebirthCommand(1))).toBeNull()
    expect(node.commands('spBv1.0/works/NCMD/edge', new Uint8Array())).toEqual([])
  })
})

it.each([
  ['{"online":true,"timestamp":5}', { online: true, timestamp: 5 }],
  ['{"online":false,"timestamp":0,"more":1}', { online: false, timestamp: 0 }],
  ['{"online":1,"timestamp":5}', null],
  ['{"online":true}', null],
  ['{"online":true,"timestamp":-1}', null],
  ['{"online":true,"timestamp":1.5}', null],
  ['{"online":true,"timestamp":"5"}', null],
  ['ONLINE', null],
  ['null', null],
  ['', null],
])('a host says %s', (text, state) => expect(hostState(new TextEncoder().encode(text))).toEqual(state))

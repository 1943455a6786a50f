import { freshReach } from '~/contract/broker-reach'
import type { SourceDraft } from '~/contract/source'
import type { TagInput } from '~/contract/tag'
import { compressorLogin, ordersLogin } from '~/standins/plant'
import type { standinPorts } from '~/standins/ports'
import type { Db } from '~/store/database'
import { addSource } from '~/store/source'
import { addTags } from '~/store/tag-edit'
import type { Vault } from '~/store/vault'

type Tag = Omit<TagInput, 'sourceId'>

const number = (name: string, address: string, unit = '', more: Partial<Tag> = {}): Tag => ({ name, address, dataType: 'number', unit, ...more })
const range = (low: number, high: number) => ({ range: { low, high } })

function dryers(): Tag[] {
  const tags: Tag[] = []
  for (let n = 1; n <= 6; n++) {
    const dryer = `Dryer ${n}`
    tags.push(
      number(`${dryer}/dry bulb`, `${n} input@0 int16 x0.1`, '°C', range(0, 130)),
      number(`${dryer}/wet bulb`, `${n} input@1 int16 x0.1`, '°C', range(0, 100)),
      number(`${dryer}/cycle hour`, `${n} input@2 uint16 x0.01`, 'h', range(0, 24)),
      {
        name: `${dryer}/cycle state`,
        address: `${n} input@3`,
        dataType: 'integer',
        description: '0 loading, 1 heating, 2 drying, 3 cooling, 4 unloading',
      },
      number(`${dryer}/fan speed`, `${n} holding@10 uint16 x0.1`, '%', range(0, 100)),
      number(`${dryer}/damper`, `${n} holding@11 uint16 x0.1`, '%', range(0, 100)),
      number(`${dryer}/setpoint`, `${n} holding@0 int16 x0.1`, '°C', { access: 'read-write', ...range(20, 120) }),
      { name: `${dryer}/heater on`, address: `${n} input@4.1`, dataType: 'boolean', description: 'Bit 1 of the status word' },
      { name: `${dryer}/door open`, address: `${n} input@4.2`, dataType: 'boolean' },
      { name: `${dryer}/alarm`, address: `${n} input@4.7`, dataType: 'boolean' },
    )
  }
  tags.push(
    number('Gas Meter 1/total', '11 input@0 uint32', 'm³'),
    number('Gas Meter 1/flow', '11 input@2 float32', 'm³/h', range(0, 900)),
    number('Gas Meter 1/pressure', '11 input@4 float32', 'mbar', range(0, 200)),
    { name: 'Gas Meter 1/serial', address: '11 input@20 text/12', dataType: 'text' },
  )
  for (let n = 1; n <= 3; n++) {
    const unit = 11 + n
    tags.push(
      // Somebody entered the word order of meter 2 as of the gas meter: it shows a number, and a wrong one.
      number(`Power Meter ${n}/power`, `${unit} holding@100 float32${n === 2 ? '' : ' CDAB'}`, 'kW', range(0, 400)),
      number(`Power Meter ${n}/energy`, `${unit} holding@102 uint32 CDAB`, 'kWh'),
      number(`Power Meter ${n}/power factor`, `${unit} holding@104 uint16 x0.001`, '', range(0, 1)),
      number(`Power Meter ${n}/voltage`, `${unit} holding@106 float32 CDAB`, 'V', range(300, 500)),
      number(`Power Meter ${n}/current`, `${unit} holding@108 float32 CDAB`, 'A', range(0, 800)),
    )
  }
  return tags
}

function devices(): Tag[] {
  const tags: Tag[] = []
  for (let n = 1; n <= 3; n++) {
    const topic = `probes/clay-prep/${n}`
    tags.push(
      number(`Clay Prep/Probe ${n}/moisture`, `${topic}#/moisture`, '%', range(10, 30)),
      number(`Clay Prep/Probe ${n}/clay temperature`, `${topic}#/clay/temperature`, '°C', range(0, 60)),
      number(`Clay Prep/Probe ${n}/battery`, `${topic}#/battery`, 'V', range(2, 4)),
    )
  }
  for (const [cell, members] of [
    ['stacker 1', ['packs', 'rejects', 'rate', 'state']],
    ['strapper 1', ['packs', 'rate', 'state']],
  ] as const)
    for (const member of members) {
      const name = `Packing/${cell[0]!.toUpperCase()}${cell.slice(1)}/${member}`
      const address = `cells/packing/${cell}/${member}`
      tags.push(member === 'state' ? { name, address, dataType: 'text' } : number(name, address, member === 'rate' ? '1/min' : ''))
    }
  const robot = 'spBv1.0/packing/palletiser 1/robot'
  tags.push(
    { name: 'Packing/Palletiser 1/pallets', address: `${robot}#pallets`, dataType: 'integer' },
    number('Packing/Palletiser 1/head height', `${robot}#head/height`, 'm', range(0, 3)),
    { name: 'Packing/Palletiser 1/gripper closed', address: `${robot}#gripper closed`, dataType: 'boolean' },
    { name: 'Packing/Palletiser 1/pattern', address: `${robot}#pattern`, dataType: 'text' },
  )
  return tags
}

function orders(): Tag[] {
  return ['kiln 1', 'packing'].flatMap((line): Tag[] => {
    const name = `Works order/${line}`
    return [
      { name: `${name}/order`, address: `/${line}/order_no`, dataType: 'text' },
      { name: `${name}/product`, address: `/${line}/product`, dataType: 'text' },
      number(`${name}/quantity`, `/${line}/quantity`),
      number(`${name}/done`, `/${line}/done`),
      { name: `${name}/firing curve`, address: `/${line}/firing_curve`, dataType: 'text' },
    ]
  })
}

function compressor(): Tag[] {
  return [
    number('Compressor 1/pressure', '/air/pressure', 'bar', range(0, 12)),
    number('Compressor 1/air temperature', '/air/temperature', '°C', range(0, 120)),
    number('Compressor 1/stage 2 temperature', '/stages/1/temperature', '°C', range(0, 200)),
    number('Compressor 1/hours', '/unit/hours', 'h'),
    { name: 'Compressor 1/state', address: '/state', dataType: 'text' },
  ]
}

/** The pan mill is not connected yet: its signals stand in. */
function trial(): Tag[] {
  return [
    number('Clay Prep/Pan Mill 1/motor current', 'walk low=60 high=140 step=4 period=1', 'A', range(0, 200)),
    number('Clay Prep/Pan Mill 1/gap', 'steps low=2 high=6 step=5 period=50', 'mm'),
    { name: 'Clay Prep/Pan Mill 1/running', address: 'fixed values=true', dataType: 'boolean' },
    number('Clay Prep/Pan Mill 1/bearing temperature', 'replay column=bearing', '°C', range(0, 90)),
    { name: 'Forming/Cutter 1/cut count', address: 'counter rate=2 high=65535', dataType: 'integer', description: 'Rolls over after 65,535' },
  ]
}

const recording = ['seconds,bearing', ...Array.from({ length: 60 }, (_, i) => `${i * 5},${(48 + 6 * Math.sin(i / 9.5)).toFixed(1)}`)].join('\n')

/** The sources of the works beside the kiln, each of its own kind, with their tags. */
export async function seedSources(
  db: Db,
  vault: Vault,
  ports: ReturnType<typeof standinPorts>,
  database: string,
  databasePort: number,
  collectorId: string,
  installation: string,
): Promise<void> {
  const add = async (draft: SourceDraft, tags: Tag[]) => {
    const { id: sourceId } = await addSource(db, vault, draft)
    await addTags(
      db,
      tags.map((t) => ({ ...t, sourceId })),
    )
  }
  const host = '127.0.0.1'
  await add(
    {
      name: 'Dryers and meters',
      kind: 'modbus',
      enabled: true,
      settings: {
        host,
        port: ports.field,
        probeUnit: 1,
        notation: 'reference',
        gap: 8,
        maxRegisters: 100,
        writes: 'single',
        timeoutMs: 1000,
        rateMs: 1000,
        retryMs: 1000,
      },
    },
    dryers(),
  )
  await add(
    {
      name: 'Devices on the site broker',
      kind: 'mqtt',
      enabled: true,
      settings: {
        host,
        port: ports.brokerPlain,
        protocol: '5',
        tls: false,
        authorityId: null,
        clientId: `embrik-${installation}-collector`,
        credentialId: collectorId,
        filters: 'probes/# cells/# spBv1.0/#',
        timeField: 'at',
        qualityField: '/quality',
        staleS: 30,
        keepAliveS: 30,
        retryMs: 1000,
        ...freshReach,
      },
    },
    devices(),
  )
  await add(
    {
      name: 'Works orders',
      kind: 'sql',
      enabled: true,
      password: ordersLogin.password,
      settings: {
        host,
        port: databasePort,
        database,
        tls: false,
        authorityId: null,
        user: ordersLogin.user,
        query: 'select line, order_no, product, quantity, done, firing_curve, customer_region\nfrom works.current_order',
        keyColumn: 'line',
        timeoutMs: 2000,
        rateMs: 5000,
        retryMs: 1000,
      },
    },
    orders(),
  )
  await add(
    {
      name: 'Compressor 1',
      kind: 'http',
      enabled: true,
      password: compressorLogin.password,
      settings: {
        url: `http://${host}:${ports.compressor}/status`,
        authorityId: null,
        login: 'basic',
        user: compressorLogin.user,
        headers: '',
        timeoutMs: 3000,
        rateMs: 1000,
        retryMs: 1000,
      },
    },
    compressor(),
  )
  await add({ name: 'Trial signals', kind: 'simulated', enabled: true, settings: { seed: 7, recording, rateMs: 1000, retryMs: 1000 } }, trial())
}

import type { Plan } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import type { Cell } from '~/core/publication/cells/cell'
import type { Runner } from '~/core/publication/runner'
import { deviceBirth, deviceDeath, nodeBirth, nodeData, nodeDeath } from '~/core/shape/sparkplug-birth'
import { deviceId, sparkplugTopicOf } from '~/core/shape/sparkplug-metric'
import { readSparkplug } from '~/core/source/sparkplug'
import { Status } from '~/core/value/quality'
import type { Command, NodeSession } from '../destinations/session'
import type { LiveTable } from '../live/table'

/** Statuses of a tag whose source cannot be reached (OPC 10000-4 7.39.1). */
const LOST = new Set<number>([Status.lastUsable, Status.noCommunication, Status.communication, Status.timeout, Status.resourceUnavailable])

/** Whether nothing of a device can be reached: everything that is read for it has lost its source. */
export function deviceLost(cells: readonly Cell[], table: Pick<LiveTable, 'status'>): boolean {
  let read = false
  for (const cell of cells)
    for (const h of cell.handles) {
      if (!LOST.has(table.status[h]!)) return false
      read = true
    }
  return read
}

/** So many names of a command are told. */
const NAMES_TOLD = 3

export interface NodeHooks {
  /** Messages that wait in the outbox. */
  waiting(): number
  /** Somebody asked for what cannot be done. */
  notYet(words: string): void
}

/** The session of a plan that speaks Sparkplug B (3.0 5): births and deaths with the values of the moment, data of the node itself. */
export function sparkplugSession(plan: Plan, how: Settings<'sparkplug-b'>, runner: Runner, table: LiveTable, hooks: NodeHooks): NodeSession {
  const devices = new Map(
    plan.equipment.map((one, e) => [deviceId(one), { write: deviceBirth(how, one, plan.equipment), cells: runner.cellsOfEquipment[e]! }] as const),
  )
  const dataTopic = sparkplugTopicOf(how, 'DDATA', '')
  const commandTopic = sparkplugTopicOf(how, 'NCMD')
  const deviceCommands = sparkplugTopicOf(how, 'DCMD', '')
  const told = { waiting: 0, lastCommand: '' }
  let lastCommand = ''
  const metrics = () => ({ 'Node Info/Messages waiting': hooks.waiting(), 'Node Info/Last command': lastCommand })
  return {
    identity: `${plan.publicationId} ${plan.number}`,
    devices: [...devices.keys()],
    death: (number, now) => ({ topic: sparkplugTopicOf(how, 'NDEATH'), payload: nodeDeath(number, now) }),
    birth(number, now) {
      const all = metrics()
      told.waiting = all['Node Info/Messages waiting']
      told.lastCommand = lastCommand
      const facts = { 'Properties/Publication': plan.name, 'Properties/Version': String(plan.number), ...all }
      return { topic: sparkplugTopicOf(how, 'NBIRTH'), payload: nodeBirth(number, now, facts) }
    },
    deviceBirth(device, now) {
      const { cells, write } = devices.get(device)!
      for (const cell of cells) cell.read(table, now)
      return { topic: sparkplugTopicOf(how, 'DBIRTH', device), payload: write(cells, now) }
    },
    deviceDeath: (device, now) => ({ topic: sparkplugTopicOf(how, 'DDEATH', device), payload: deviceDeath(now) }),
    deviceOf(topic) {
      const device = topic.startsWith(dataTopic) ? topic.slice(dataTopic.length) : ''
      // What waits in the outbox may be of a device that the version of now has no more.
      return devices.has(device) ? device : null
    },
    news(now) {
      const all = metrics()
      const fresh: Record<string, number | string> = {}
      if (all['Node Info/Messages waiting'] !== told.waiting) fresh['Node Info/Messages waiting'] = told.waiting = all['Node Info/Messages waiting']
      if (lastCommand !== told.lastCommand) fresh['Node Info/Last command'] = told.lastCommand = lastCommand
      return Object.keys(fresh).length === 0 ? null : { topic: sparkplugTopicOf(how, 'NDATA'), payload: nodeData(now, fresh) }
    },
    commandTopic,
    deviceCommandFilter: `${deviceCommands}+`,
    commands(topic, payload) {
      const device = topic.startsWith(deviceCommands) ? topic.slice(deviceCommands.length) : null
      if (device === null && topic !== commandTopic) return null
      try {
        const all = readSparkplug(payload).metrics
        const rebirth = device === null && all.some((m) => m.name === 'Node Control/Rebirth' && m.value === true)
        const others = all.filter((m) => !(device === null && m.name === 'Node Control/Rebirth')).map((m) => m.name ?? `alias ${m.alias}`)
        const out: Command[] = rebirth ? [{ kind: 'rebirth' }] : []
        if (others.length > 0) {
          const names = others.slice(0, NAMES_TOLD).join(', ') + (others.length > NAMES_TOLD ? ` and ${others.length - NAMES_TOLD} more` : '')
          lastCommand = `not yet: ${device === null ? 'the node' : device} was told to write ${names}; writing is not built`
          out.push({ kind: 'not-yet', words: lastCommand })
        }
        return out
      } catch {
        return null
      }
    },
    notYet: (words) => hooks.notYet(words),
    hostTopic: how.primaryHost === '' ? null : `spBv1.0/STATE/${how.primaryHost}`,
  }
}

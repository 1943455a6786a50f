import type { Plan } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import type { Runner } from '~/core/publication/runner'
import { deviceBirth, nodeBirth, nodeDeath } from '~/core/shape/sparkplug-birth'
import { deviceId, sparkplugTopicOf } from '~/core/shape/sparkplug-metric'
import { readSparkplug } from '~/core/source/sparkplug'
import type { NodeSession } from '../destinations/session'
import type { LiveTable } from '../live/table'

/** The session of a plan that speaks Sparkplug B (3.0 5): births with the values of the moment. */
export function sparkplugSession(plan: Plan, how: Settings<'sparkplug-b'>, runner: Runner, table: LiveTable): NodeSession {
  const births = plan.equipment.map((one) => ({
    topic: sparkplugTopicOf(how, 'DBIRTH', deviceId(one)),
    write: deviceBirth(how, one, plan.equipment),
  }))
  return {
    identity: `${plan.publicationId} ${plan.number}`,
    death: (number, now) => ({ topic: sparkplugTopicOf(how, 'NDEATH'), payload: nodeDeath(number, now) }),
    births: (number, now) => [
      { topic: sparkplugTopicOf(how, 'NBIRTH'), payload: nodeBirth(number, now, { Publication: plan.name, Version: String(plan.number) }) },
      ...births.map(({ topic, write }, e) => {
        const cells = runner.cellsOfEquipment[e]!
        for (const cell of cells) cell.read(table, now)
        return { topic, payload: write(cells, now) }
      }),
    ],
    commandTopic: sparkplugTopicOf(how, 'NCMD'),
    isRebirth(payload) {
      try {
        return readSparkplug(payload).metrics.some((m) => m.name === 'Node Control/Rebirth' && m.value === true)
      } catch {
        return false
      }
    },
    hostTopic: how.primaryHost === '' ? null : `spBv1.0/STATE/${how.primaryHost}`,
  }
}

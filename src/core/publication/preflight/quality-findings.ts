import type { Finding, PlanEquipment } from '~/contract/publication'
import { some } from '../../address/some'
import { qualityOf, reasonOf, Status } from '../../value/quality'
import type { PlanBody } from '../compile'
import { tagsBehind } from '../steps/behind'

/** Members whose tags are not good at this moment, by what is wrong with them. `status` tells of a tag by its handle. */
export function qualityFindings(body: Pick<PlanBody, 'equipment' | 'stages'>, status: (handle: number) => number | undefined): Finding[] {
  const behind = tagsBehind(body)
  const waiting: string[] = []
  const bad = new Map<string, string[]>()
  const uncertain = new Map<string, string[]>()
  body.equipment.forEach((one: PlanEquipment, e) => {
    for (const m of one.members)
      for (const handle of behind(e, m.fill)) {
        const code = status(handle)
        const name = `${one.name} ${m.label || m.key}`
        if (code === undefined || code === Status.waitingForInitialData) waiting.push(name)
        else if (code >>> 30 !== 0 && code !== Status.substitute) {
          const into = qualityOf(code) === 'bad' ? bad : uncertain
          into.set(reasonOf(code), [...(into.get(reasonOf(code)) ?? []), name])
        } else continue
        break
      }
  })
  const mend = { label: 'Show what is wrong now', href: '/' }
  const say = (message: string, hint: string): Finding => ({ severity: 'warns', section: 'what', message, hint, mend, passing: true })
  const told = (words: string, all: Map<string, string[]>, hint: string) =>
    [...all].map(([reason, who]) => say(`${words}, ${reason}: ${some(who)}`, hint))
  return [
    ...(waiting.length > 0 ? [say(`No value yet: ${some(waiting)}; their messages wait for it`, 'Look at their tags and the source')] : []),
    ...told('Bad now', bad, 'They go out as the shape has it for bad values'),
    ...told('Uncertain now', uncertain, 'They go out with their quality where the shape tells it'),
  ]
}

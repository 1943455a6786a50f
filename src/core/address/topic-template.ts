import type { Equipment, Level } from '~/contract/equipment'
import { type TemplateProblem, topicLevel } from './template'

/** What a placeholder stands for; `unit` and the like are the names at that level of the hierarchy. */
export const placeholders: Record<string, Level | 'name' | 'class'> = {
  enterprise: 'enterprise',
  site: 'site',
  area: 'area',
  centre: 'work centre',
  unit: 'work unit',
  name: 'name',
  class: 'class',
}

/** Faults of a template: unknown placeholders, unclosed braces, characters a topic name must not have (MQTT 5 4.7.3). */
export function templateProblems(template: string): TemplateProblem[] {
  const problems: TemplateProblem[] = []
  const known = Object.keys(placeholders)
  for (const m of template.matchAll(/\{([^{}]*)\}|[{}]/g)) {
    if (m[1] === undefined) problems.push({ at: m.index, message: `A lone ${m[0]}: placeholders are written {site}` })
    else if (!known.includes(m[1]))
      problems.push({ at: m.index, message: `{${m[1]}} is not known; there are ${known.map((k) => `{${k}}`).join(' ')}` })
  }
  const wild = /[+#]/.exec(template)
  if (wild) problems.push({ at: wild.index, message: `${wild[0]} is a wildcard and may not stand in a topic` })
  // biome-ignore lint/suspicious/noControlCharactersInRegex: MQTT 5 1.5.4 forbids just these
  const control = /[\u0000-\u001f\u007f]/.exec(template)
  if (control) problems.push({ at: control.index, message: 'Control characters may not stand in a topic' })
  if (template.startsWith('$')) problems.push({ at: 0, message: 'Topics that begin with $ belong to the broker' })
  if (template.split('/').some((l) => l === '')) problems.push({ at: template.indexOf('//') + 1, message: 'An empty level' })
  return problems
}

/** Fills a template for one equipment, or says which placeholder has nothing to stand for. */
export function fillTemplate(
  template: string,
  lineage: readonly Pick<Equipment, 'name' | 'level'>[],
  className: string | null,
): { topic: string } | { missing: string } {
  const own = lineage.at(-1)
  let missing: string | null = null
  const topic = template.replace(/\{([^{}]*)\}/g, (_, key: string) => {
    const what = placeholders[key]
    const name = what === 'name' ? own?.name : what === 'class' ? className : lineage.findLast((n) => n.level === what)?.name
    const level = name ? topicLevel(name) : ''
    if (!level) missing ??= key
    return level
  })
  return missing === null ? { topic } : { missing }
}

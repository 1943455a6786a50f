import type { VersionDifference } from '~/contract/version'

/** What the parts of a publication are called where two of them are compared. */
export const fieldWords: Readonly<Record<string, string>> = {
  name: 'Name',
  equipmentIds: 'What: equipment',
  tags: 'What: tags',
  rows: 'What: rows',
  rule: 'What: rule',
  trigger: 'When',
  'trigger.kind': 'When: trigger',
  'trigger.of': 'When: event',
  'trigger.member': 'When: of which member',
  'trigger.seconds': 'When: every, s',
  'trigger.condition': 'When: condition',
  'trigger.until': 'When: until',
  'trigger.holdS': 'When: holds for, s',
  'trigger.cron': 'When: schedule',
  'trigger.zone': 'When: time zone',
  'trigger.deadband': 'When: deadband',
  pace: 'How often',
  'pace.mostS': 'At most every, s',
  'pace.leastS': 'At least every, s',
  'pace.first': 'When it begins to run',
  steps: 'Steps',
  shape: 'Shape',
  'shape.kind': 'Shape',
  'address.topic': 'Topic',
  'address.topicRule': 'Names in the topic',
  'address.key': 'Key',
  'address.headers': 'Headers',
  'address.qos': 'QoS',
  'address.retain': 'Retained',
  'address.contentType': 'Content type',
  'address.responseTopic': 'Response topic',
  'address.expiryS': 'Expires after, s',
  address: 'Address',
  steersOnly: 'Steering members left out',
  ahead: 'Ahead of others',
  destinationId: 'Destination',
  own: 'Only: steps',
  onlyClassId: 'Only: class',
  off: 'Switched off',
}

/** `Topic`; `Step 2, condition`; what has no words of its own is called by its part and its name. */
export function settingWords({ what, kind }: Pick<VersionDifference, 'what' | 'kind'>): string {
  if (kind !== 'setting') return what
  const own = Object.hasOwn(fieldWords, what) ? fieldWords[what] : undefined
  if (own !== undefined) return own
  const step = /^steps\.(\d+)(?:\.(.+))?$/.exec(what)
  if (step) return `Step ${Number(step[1]) + 1}${step[2] ? `, ${step[2]}` : ''}`
  const [part, ...rest] = what.split('.')
  const words = Object.hasOwn(fieldWords, part!) ? fieldWords[part!] : undefined
  return words && rest.length > 0 ? `${words}, ${rest.join('.')}` : what
}

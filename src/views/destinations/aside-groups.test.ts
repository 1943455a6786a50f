import { expect, it } from 'vitest'
import type { Aside } from '~/contract/aside'
import { asideGroups } from './aside-groups'

const aside = (seq: number, topic: string, message: string, code = 'destination.hangs-up'): Aside =>
  ({
    id: seq,
    seq,
    topic,
    message,
    code,
    hint: 'look there',
    publicationId: 'p',
    publication: 'Zones',
    at: seq,
    assurance: 'acknowledged',
    payload: '',
  }) as Aside

it('puts together what went aside for one reason on one topic, with the reason of the first', () => {
  const groups = asideGroups([
    aside(9, 'kiln/3', 'kiln/3: like those before it went aside'),
    aside(8, 'kiln/4', 'A message to kiln/4 was not sent: too large', 'mqtt.size'),
    aside(7, 'kiln/3', 'The link was lost three times on a message to kiln/3 (QoS 1)'),
  ])
  expect(groups.map((g) => [g.topic, g.asides.map((a) => a.seq), g.message])).toEqual([
    ['kiln/3', [9, 7], 'The link was lost three times on a message (QoS 1)'],
    ['kiln/4', [8], 'A message was not sent: too large'],
  ])
  expect(asideGroups([aside(9, 'kiln/3', 'kiln/3: like those before it went aside')])[0]!.message).toBe('like those before it went aside')
})

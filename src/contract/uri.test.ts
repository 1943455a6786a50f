import { expect, it } from 'vitest'
import { ShapeSettings } from './shape'

const source = (text: string) => ShapeSettings.safeParse({ kind: 'cloudevents', source: text })

it.each([
  '/embrik',
  'works/kiln',
  'https://varnmoor.example/works?x=1#a',
  'urn:varnmoor:kiln:7',
  '//varnmoor.example/a',
  './a:b',
  '%C3%BC',
  '?q',
  '#a',
])('an event source may be the URI reference %s', (text) => expect(source(text).success).toBe(true))

it.each(['two words', 'Brennöfen', '100%', '%zz', 'a b:c', '1a:b', 'a#b#c', '<kiln>', 'a"b', 'a\\b', '{x}', '^'])(
  'an event source is no URI reference when it is %s, and the field is told',
  (text) => expect(source(text).error?.issues.map((i) => [i.path[0], i.message.slice(0, 15)])).toEqual([['source', 'A URI reference']]),
)

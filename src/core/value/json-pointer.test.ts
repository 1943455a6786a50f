import { expect, it } from 'vitest'
import { pointed } from './json-pointer'

/** The examples of RFC 6901 5. */
const document = { foo: ['bar', 'baz'], '': 0, 'a/b': 1, 'c%d': 2, 'e^f': 3, 'g|h': 4, 'i\\j': 5, 'k"l': 6, ' ': 7, 'm~n': 8 }

it.each([
  ['', document],
  ['/foo', ['bar', 'baz']],
  ['/foo/0', 'bar'],
  ['/', 0],
  ['/a~1b', 1],
  ['/c%d', 2],
  ['/e^f', 3],
  ['/g|h', 4],
  ['/i\\j', 5],
  ['/k"l', 6],
  ['/ ', 7],
  ['/m~0n', 8],
])('%j points to its part', (pointer, part) => {
  expect(pointed(document, pointer)).toEqual(part)
})

it('finds nothing where there is nothing, and nothing that only every object has', () => {
  for (const pointer of ['/foo/2', '/foo/01', '/foo/-', '/bar', '/foo/0/1', '/constructor', '/__proto__', '/foo/length'])
    expect(pointed(document, pointer)).toBeUndefined()
})

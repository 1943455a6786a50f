import { describe, expect, it } from 'vitest'
import { Status } from '../value/quality'
import { type Seen, seenIn, seenText } from './seen'
import { decodeStates, encodeStates } from './states'
import { StateIndex } from './view'

const seen: Seen = { value: 18_446_744_073_709_551_615n, status: Status.lastUsable, time: Date.UTC(2026, 10, 28) }

describe('what was read, as it is copied', () => {
  it('has all digits, the reason of its quality, and its time in UTC', () => {
    expect(seenText(seen, 'value')).toBe('18446744073709551615')
    expect(seenText(seen, 'quality')).toBe('uncertain: last usable value')
    expect(seenText(seen, 'time')).toBe('2026-11-28T00:00:00.000Z')
  })
  it('is empty where nothing was read yet', () => {
    expect(seenText(undefined, 'value')).toBe('')
    expect(seenText({ value: null, status: Status.waitingForInitialData, time: 0 }, 'quality')).toBe('')
  })
  it('comes from the states of all tags too: booleans as words, texts as they are', () => {
    const from = { value: [1.5, true, 'on', null], status: [0, 0, 0, Status.timeout], time: [5, 6, 7, 8], seen: [5, 6, 7, 8], changed: [5, 6, 7, 8] }
    const index = new StateIndex(decodeStates(encodeStates([0, 1, 2, 3], from).slice().buffer), 9)
    const texts = (['number', 'boolean', 'text', 'number'] as const).map((dataType, handle) => seenText(seenIn(index, { handle, dataType }), 'value'))
    expect(texts).toEqual(['1.5', 'true', 'on', ''])
    expect(seenIn(index, { handle: 9, dataType: 'number' })).toBeUndefined()
  })
})

import { describe, expect, it } from 'vitest'
import type { HubSettings } from '~/contract/destinations/hub'
import { shippedProfiles } from '../../hub/shipped'
import { movedTo } from '../kinds'
import { hubAddress } from './hub'
import { mqttAddress } from './mqtt'

const [tarn, fell] = shippedProfiles
const to = (profile: HubSettings['profile']) =>
  movedTo(
    { ...mqttAddress.fresh, topic: '{site}/{area}/{unit|lower}/state', qos: 2, retain: true },
    {
      kind: 'hub',
      settings: { profile } as HubSettings,
    },
  )

describe('an address that comes to a hub', () => {
  it('keeps its levels where the hub has some, and no more QoS than it takes', () => {
    const { address, lost } = to(tarn!)
    expect(address).toMatchObject({ kind: 'hub', topic: '{site}/{area}/{unit|lower}/state', qos: 1 })
    expect(lost).toEqual(['retain'])
  })
  it('has the last level that tells one from another where there are none', () => {
    const { address, lost } = to(fell!)
    expect(address).toMatchObject({ topic: '{unit|lower}', qos: 1 })
    expect(lost).toEqual(['retain', 'levels'])
    expect(hubAddress.beyond(address as never, {} as never, { profile: fell! } as HubSettings).filter((f) => f.severity === 'stops')).toEqual([])
  })
  it.each([
    ['{path}/state', '{name}'],
    ['{path}', '{name}'],
    ['a/b', '{name}'],
    ['kiln', 'kiln'],
    ['{unit}', '{unit}'],
  ])('%s becomes %s', (topic, there) =>
    expect(hubAddress.fitted!({ ...hubAddress.fresh, topic }, { profile: fell! } as HubSettings).address.topic).toBe(there),
  )
})

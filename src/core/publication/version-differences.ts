import type { Plan } from '~/contract/publication'
import type { VersionDifference, VersionDifferences } from '~/contract/version'
import { differences } from '../value/differences'
import { bodyDifferences } from './outside'

const TOLD = 200

/** What was chosen for a version, without what followed from it. */
const chosen = ({ name, feed, trigger, pace, steps, shape, address, destinationId, ahead }: Plan) => ({
  name,
  rows: feed && { source: feed.source, at: feed.at, key: feed.key, removed: feed.removed ? 'yes' : 'no' },
  trigger,
  pace,
  steps,
  shape,
  address,
  destinationId,
  ahead: ahead ? 'yes' : 'no',
})

/** In what two versions of a publication differ: what was chosen, and what receivers see of each equipment. */
export function versionDifferences(before: Plan, after: Plan): VersionDifferences {
  const settings = differences(chosen(before), chosen(after)).map(
    ({ path, theirs, mine }): VersionDifference => ({ what: path, kind: 'setting', before: theirs, after: mine }),
  )
  const outside = bodyDifferences({ name: after.name, state: 'live' }, before, after).map(
    (d): VersionDifference => ({ what: d.equipment, kind: d.what, before: d.before, after: d.after }),
  )
  const all = [...settings, ...outside]
  return { differences: all.slice(0, TOLD), count: all.length }
}

import { randomBytes } from 'node:crypto'
import { Migrator } from 'kysely'
import type { Db } from './database'
import * as first from './migrations/0001-first'
import * as verdicts from './migrations/0002-verdicts'
import * as access from './migrations/0003-access'
import * as sources from './migrations/0004-sources'
import * as properties from './migrations/0005-properties'
import * as equipment from './migrations/0006-equipment'
import * as shapes from './migrations/0007-shapes'
import * as truth from './migrations/0008-truth'
import * as resent from './migrations/0009-resent'
import * as publishers from './migrations/0010-publishers'
import * as places from './migrations/0011-places'
import * as devices from './migrations/0012-devices'
import * as announced from './migrations/0013-announced'
import * as lanes from './migrations/0014-lanes'
import * as secondFactor from './migrations/0015-second-factor'
import * as signOn from './migrations/0016-sign-on'
import * as patterns from './migrations/0017-patterns'
import * as addresses from './migrations/0018-addresses'
import * as assurance from './migrations/0019-assurance'
import * as replacements from './migrations/0020-replacements'
import * as issued from './migrations/0021-issued'
import * as tokens from './migrations/0022-tokens'
import * as brokerTerms from './migrations/0023-broker-terms'
import * as renewal from './migrations/0024-renewal'
import * as hubTerms from './migrations/0025-hub-terms'
import * as memory from './migrations/0026-memory'
import * as journal from './migrations/0027-journal'
import * as clauses from './migrations/0028-clauses'
import * as recording from './migrations/0029-recording'
import * as rows from './migrations/0030-rows'
import * as proofRuns from './migrations/0031-proof-runs'

const migrations = {
  '0001-first': first,
  '0002-verdicts': verdicts,
  '0003-access': access,
  '0004-sources': sources,
  '0005-properties': properties,
  '0006-equipment': equipment,
  '0007-shapes': shapes,
  '0008-truth': truth,
  '0009-resent': resent,
  '0010-publishers': publishers,
  '0011-places': places,
  '0012-devices': devices,
  '0013-announced': announced,
  '0014-lanes': lanes,
  '0015-second-factor': secondFactor,
  '0016-sign-on': signOn,
  '0017-patterns': patterns,
  '0018-addresses': addresses,
  '0019-assurance': assurance,
  '0020-replacements': replacements,
  '0021-issued': issued,
  '0022-tokens': tokens,
  '0023-broker-terms': brokerTerms,
  '0024-renewal': renewal,
  '0025-hub-terms': hubTerms,
  '0026-memory': memory,
  '0027-journal': journal,
  '0028-clauses': clauses,
  '0029-recording': recording,
  '0030-rows': rows,
  '0031-proof-runs': proofRuns,
}

/** Brings the database up to date (or to `target`); safe to call from several processes at once. Returns the names of what was applied. */
export async function migrate(db: Db, target?: keyof typeof migrations): Promise<string[]> {
  const migrator = new Migrator({ db, provider: { getMigrations: async () => migrations } })
  const { error, results } = await (target ? migrator.migrateTo(target) : migrator.migrateToLatest())
  if (error) throw error
  await db
    .insertInto('installation')
    .values({ code: randomBytes(4).toString('hex'), setup_token_hash: null })
    .onConflict((c) => c.column('one').doNothing())
    .execute()
  return (results ?? []).map((r) => r.migrationName)
}

// Half an hour in which everything goes wrong by a seed, on every road and trigger at once: every verdict held against what lies at the far ends.
import { databaseUrl } from '~/store/database'
import { chaos } from '../tests/engine/chaos'
import { flowingProgram } from '../tests/engine/flowing'
import { perSecond, show } from './common'

process.env.EMBRIK_TEST_DATABASE_URL = databaseUrl()
const seconds = Number(process.env.EMBRIK_CHAOS_S ?? 1800)
const seed = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
const only = process.env.EMBRIK_CHAOS_ONLY
const { wrong, sums, said } = await chaos({
  ...{ program: await flowingProgram(), seconds, seed, waitS: 1200 },
  ...(only !== undefined && { only: new RegExp(only) }),
})
const { stored = 0, ...verdicts } = sums
show(`chaos for ${seconds} s, seed ${seed}: messages`, `${stored.toLocaleString('en')}, ${perSecond(stored, seconds * 1000)}`)
show('by verdict', JSON.stringify(verdicts))
show('things that went wrong', String(said.split('\n').filter((line) => /^\S+Z (a |the |answers|leaders|what|more)/.test(line)).length))
show('verdicts that differ from what lies at the far ends', String(wrong.length))
for (const line of wrong.slice(0, 10)) show('  wrong', line)
process.exit(wrong.length === 0 ? 0 : 1)

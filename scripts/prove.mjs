// A proof run from a file, for acceptance in a pipeline: npm run prove -- FILE [--out FOLDER]. EMBRIK_URL says where Embrik is, EMBRIK_KEY holds an API key
// of an engineer. Ends with 0: every limit was held; 1: one was broken; 2: one could not be measured; 3: it did not come to its end; 4: it was not begun.
import { parseArgs } from 'node:util'
import { portBase } from './lib/ports.mjs'
import { NOT_RUN, prove } from './lib/prove.mjs'

const usage = 'npm run prove -- FILE [--out FOLDER], with EMBRIK_URL and EMBRIK_KEY'
let given
try {
  given = parseArgs({ allowPositionals: true, options: { out: { type: 'string' } } })
} catch (e) {
  console.error(`${e.message}\n${usage}`)
  process.exit(NOT_RUN)
}
const [file] = given.positionals
const key = process.env.EMBRIK_KEY ?? ''
if (file === undefined || given.positionals.length > 1 || key === '') {
  console.error(file === undefined ? `Which file? ${usage}` : key === '' ? `EMBRIK_KEY holds no API key. ${usage}` : usage)
  process.exit(NOT_RUN)
}
const url = (process.env.EMBRIK_URL ?? `http://127.0.0.1:${portBase()}`).replace(/\/+$/, '')
const out = given.values.out ?? 'proof-run'
process.exitCode = await prove({
  ...{ file, url, key, out, say: (words) => console.log(words) },
  stop: (stop) => {
    process.once('SIGINT', () => {
      console.log('It is stopped; what it changed is undone')
      void stop()
    })
  },
})

import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { unzipSync } from 'fflate'

/** Exit codes: what a pipeline goes by. */
export const codes = { held: 0, broken: 1, unproven: 2, stopped: 3, failed: 3 }
/** The file, the address or the key is wrong, or nobody answers: nothing was proven. */
export const NOT_RUN = 4

/** How often it is asked how a run stands, ms. */
const LOOK_MS = 1000
/** So long nobody may answer while a run goes on, ms: an engine that is started anew takes a while. */
const SILENT_MS = 60_000

class Refused extends Error {}

/** Calls Embrik as whoever the key belongs to. */
function caller(url, key) {
  return async (method, path, body) => {
    const response = await fetch(`${url}${path}`, {
      method,
      headers: { authorization: `Bearer ${key}`, ...(body !== undefined && { 'content-type': 'application/json' }) },
      ...(body !== undefined && { body: JSON.stringify(body) }),
    })
    if (response.ok) return response
    const said = await response.json().catch(() => ({}))
    const fields = Object.entries(said.fields ?? {}).map(([field, words]) => `\n  ${field}: ${words}`)
    throw new Refused(`${said.message ?? response.status}. ${said.hint ?? ''}${fields.join('')}`)
  }
}

/** Something that a file names, by its name or its id. */
function idOf(kind, wanted, all) {
  const found = all.find((one) => one.id === wanted || one.name === wanted)
  if (found) return found.id
  throw new Refused(`There is no ${kind} called ${wanted}. There are: ${all.map((one) => one.name).join(', ') || 'none'}`)
}

/** A plan out of a file: with names of publications and destinations in the place of ids. */
async function planOf(file, ask) {
  let read
  try {
    read = JSON.parse(readFileSync(file, 'utf8'))
  } catch (e) {
    throw new Refused(`${file} cannot be read: ${e.message}`)
  }
  const { publications, faults = [], ...plan } = read
  if (!Array.isArray(publications)) throw new Refused(`${file} has no list "publications" with the names of those to be tested`)
  if (!Array.isArray(faults)) throw new Refused(`${file}: "faults" is no list`)
  const known = await (await ask('GET', '/api/publications')).json()
  const destinations = faults.length > 0 ? await (await ask('GET', '/api/destinations')).json() : []
  return {
    ...plan,
    publicationIds: publications.map((name) => idOf('publication', name, known)),
    faults: faults.map(({ destination, ...fault }) => ({ ...fault, destinationId: idOf('destination', destination, destinations) })),
  }
}

const pause = (ms) => new Promise((done) => setTimeout(done, ms))

/** Waits for the end of a run; gives how it stands then. */
async function through(id, ask, say) {
  let told = ''
  let answered = Date.now()
  for (;;) {
    try {
      const now = await (await ask('GET', `/api/proof-runs/${id}`)).json()
      answered = Date.now()
      if (now.run.outcome !== null) return now
      const words = now.progress ? `${now.progress.phase}, ${Math.floor(now.progress.seconds / 10) * 10} of ${now.progress.of} s` : ''
      if (words !== told) say(`${words}: ${now.progress?.produced ?? 0} produced, ${now.progress?.judged ?? 0} with their verdict`)
      told = words
    } catch (e) {
      if (e instanceof Refused && Date.now() - answered > SILENT_MS) throw e
      if (Date.now() - answered > SILENT_MS) throw new Refused(`Nobody has answered for ${SILENT_MS / 1000} s: ${e.message}`)
    }
    await pause(LOOK_MS)
  }
}

/**
 * Runs a proof run that a file describes, and writes its report beside. Gives the exit code. `stop` is called with what stops
 * the run, for whoever presses Ctrl+C.
 */
export async function prove({ file, url, key, out, say, stop = () => undefined }) {
  const ask = caller(url, key)
  try {
    const plan = await planOf(file, ask)
    const { id } = await (await ask('POST', '/api/proof-runs', plan)).json()
    say(`${plan.name} runs: ${url}/proof/runs?run=${id}`)
    stop(() => ask('POST', `/api/proof-runs/${id}/stop`).catch(() => undefined))
    const { run, report } = await through(id, ask, say)
    for (const limit of report?.limits ?? []) say(`  ${limit.outcome.padEnd(8)} ${limit.words}`)
    if (run.sha256 !== '') {
      mkdirSync(out, { recursive: true })
      const zip = new Uint8Array(await (await ask('GET', `/api/proof-runs/${id}/report`)).arrayBuffer())
      for (const [name, body] of Object.entries(unzipSync(zip))) writeFileSync(join(out, name), body)
      writeFileSync(join(out, 'junit.xml'), await (await ask('GET', `/api/proof-runs/${id}/report?as=junit`)).text())
      say(`Its report lies in ${out}`)
    }
    say(`${plan.name}: ${run.outcome}${run.why === '' ? '' : `. ${run.why}`}`)
    return codes[run.outcome]
  } catch (e) {
    say(e instanceof Refused ? e.message : `${url} cannot be reached: ${e.cause?.message ?? e.message}`)
    return NOT_RUN
  }
}

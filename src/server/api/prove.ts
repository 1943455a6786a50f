import { verify } from 'node:crypto'
import { strToU8, zipSync } from 'fflate'
import { fail } from '~/contract/failure'
import type { ProofPlan, ProofProgress } from '~/contract/prove'
import { ProofReport } from '~/contract/prove'
import { junitOf } from '~/core/prove/junit'
import { plantKey } from '~/store/plant-key'
import { getProofRun, listProofRuns, type ReportPart, removeProofRun, reportOf, type SignedPart } from '~/store/proof-run'
import { database, secrets } from '../context'
import type { Handlers } from '../endpoint'
import { askEngine } from '../engine-client'

type Keys = 'listProofRuns' | 'startProofRun' | 'proofRun' | 'stopProofRun' | 'removeProofRun' | 'proofReport' | 'plantKey'

/** Names that a plan refers to are still there. */
async function begin(plan: ProofPlan, by: string): Promise<{ id: string; name: string }> {
  const { id } = (await (await askEngine('/proof-runs/start', { body: { plan, by } })).json()) as { id: string }
  return { id, name: plan.name }
}

/** How a run that goes on stands; null: it does not, or nobody answers. */
async function progressOf(id: string): Promise<ProofProgress | null> {
  return ((await (await askEngine('/proof-runs/progress', { body: { id } })).json()) as { progress: ProofProgress | null }).progress
}

const isSigned = ({ body, signature }: SignedPart, publicKey: string): boolean => verify('sha256', body, publicKey, Buffer.from(signature, 'base64'))

const types: Record<ReportPart, string> = { json: 'application/json', html: 'text/html; charset=utf-8', pdf: 'application/pdf' }

const readMe = (
  fingerprint: string,
) => `The report of a proof run: report.json (for programs), report.html and report.pdf (for people), each with its signature (.sig).

Check them with OpenSSL:

  openssl dgst -sha256 -verify plant-key.pem -signature report.json.sig report.json
  openssl dgst -sha256 -verify plant-key.pem -signature report.html.sig report.html
  openssl dgst -sha256 -verify plant-key.pem -signature report.pdf.sig report.pdf

Each says "Verified OK", or the file was changed after it was signed.

That the key is the plant's, the plant tells: ask for its fingerprint over another way than this came. It should be

  ${fingerprint}

and that of the key beside this file is shown by

  openssl pkey -pubin -in plant-key.pem -outform DER | openssl dgst -sha256 -c
`

/** A file name of a run's name. */
const fileOf = (name: string): string =>
  name
    .normalize('NFKD')
    .replace(/[^A-Za-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .toLowerCase()
    .slice(0, 60) || 'proof-run'

async function file(id: string, as: 'zip' | 'json' | 'html' | 'pdf' | 'junit'): Promise<Response> {
  const { run, parts, key } = await reportOf(database(), id)
  const of = (part: ReportPart) => {
    const found = parts.find((p) => p.part === part)
    if (found) return found
    throw fail(404, 'proof.no-part', `The report of ${run.name} has no ${part}`, 'Take the zip', 'proof')
  }
  const sent = (body: Uint8Array, type: string, ending: string) =>
    new Response(new Uint8Array(body), {
      headers: {
        'content-type': type,
        'cache-control': 'no-store',
        // It is taken away, never shown here: what stands in it was written by whoever named things.
        'content-disposition': `attachment; filename="${fileOf(run.name)}.${ending}"`,
      },
    })
  if (as === 'junit') return sent(strToU8(junitOf(ProofReport.parse(JSON.parse(of('json').body.toString())))), 'application/xml', 'xml')
  if (as !== 'zip') return sent(of(as).body, types[as], as)
  const files = parts.flatMap(({ part, body, signature }): [string, Uint8Array][] => [
    [`report.${part}`, body],
    [`report.${part}.sig`, Buffer.from(signature, 'base64')],
  ])
  return sent(
    zipSync({ ...Object.fromEntries(files), 'plant-key.pem': strToU8(key.publicKey), 'READ ME.txt': strToU8(readMe(key.fingerprint)) }),
    'application/zip',
    'zip',
  )
}

export const proveHandlers: Pick<Handlers, Keys> = {
  listProofRuns: () => listProofRuns(database()),
  startProofRun: ({ body, caller }) => begin(body, caller.name),
  proofRun: async ({ params }) => {
    const { run, plan } = await getProofRun(database(), params.id!)
    if (run.outcome === null) {
      const progress = await progressOf(run.id)
      if (progress) return { run, plan, progress, report: null, signed: false }
    }
    if (run.sha256 === '') return { run, plan, progress: null, report: null, signed: false }
    const { parts, key } = await reportOf(database(), run.id)
    const json = parts.find((p) => p.part === 'json')!
    return {
      ...{ run, plan, progress: null },
      report: ProofReport.parse(JSON.parse(json.body.toString())),
      signed: parts.every((p) => isSigned(p, key.publicKey)),
    }
  },
  stopProofRun: async ({ params, caller }) => {
    await askEngine('/proof-runs/stop', { body: { id: params.id, by: caller.name } })
  },
  removeProofRun: ({ params }) => removeProofRun(database(), params.id!),
  proofReport: ({ params, query }) => file(params.id!, query.as),
  plantKey: () => plantKey(database(), secrets()),
}

import PDFDocument from 'pdfkit'
import type { ProofReport } from '~/contract/prove'
import { spanOf } from '~/core/prove/limits'
import { piecesOf } from '~/core/prove/measure'
import { outcomeWords, recoveryWords } from '~/core/prove/words'

type Doc = InstanceType<typeof PDFDocument>
const inks = {
  ink: '#23201c',
  muted: '#5c574f',
  line: '#ddd6cb',
  clay: '#a8482f',
  slate: '#2f5877',
  good: '#1f7666',
  bad: '#8a2450',
  uncertain: '#7a5410',
}
const states: Record<string, string> = { held: inks.good, broken: inks.bad, failed: inks.bad, unproven: inks.uncertain, stopped: inks.uncertain }
const MARGIN = 48

/** The fonts that every reader of PDF has know these letters only (ISO 32000-1 D.2); others are shown by their numbers. */
const latin = (text: string): string =>
  [...text.normalize('NFC')]
    .map((c) => ((c >= ' ' && c <= '~') || (c >= '\u00a0' && c <= '\u00ff') ? c : `<${c.codePointAt(0)!.toString(16)}>`))
    .join('')

function heading(doc: Doc, text: string): void {
  if (doc.y > doc.page.height - 120) doc.addPage()
  doc.moveDown(0.8).font('Helvetica-Bold').fontSize(11).fillColor(inks.ink).text(text, MARGIN)
  const y = doc.y + 1
  doc
    .moveTo(MARGIN, y)
    .lineTo(doc.page.width - MARGIN, y)
    .lineWidth(0.5)
    .stroke(inks.line)
  doc.moveDown(0.3).font('Helvetica').fontSize(9)
}

/** What something is called, and what it is. */
function facts(doc: Doc, rows: readonly (readonly [string, string])[]): void {
  for (const [name, value] of rows) {
    if (doc.y > doc.page.height - 70) doc.addPage()
    const { y } = doc
    const words = latin(value)
    const width = doc.page.width - 2 * MARGIN - 150
    doc.fillColor(inks.muted).text(latin(name), MARGIN, y, { width: 140 })
    const below = doc.y
    doc.fillColor(inks.ink).text(words, MARGIN + 150, y, { width })
    doc.y = Math.max(below, doc.y)
  }
  doc.x = MARGIN
}

/** Latency over the run: p50 and p99 of each moment, on a scale of equal ratios. */
function picture(doc: Doc, { curve, faults, seconds }: ProofReport): void {
  if (curve.length < 2) return
  heading(doc, 'Latency over the run')
  if (doc.y > doc.page.height - 200) doc.addPage()
  const [left, top, height] = [MARGIN + 40, doc.y + 4, 130]
  const width = doc.page.width - MARGIN - left
  const most = Math.log10(Math.max(...curve.map((p) => p.p99), 10) * 1.3)
  const least = Math.log10(Math.max(0.1, Math.min(...curve.map((p) => p.p50))) / 1.3)
  const last = Math.max(seconds, curve.at(-1)!.atS)
  const x = (s: number) => left + (width * s) / last
  const y = (ms: number) => top + height * (1 - (Math.max(Math.log10(Math.max(ms, 1e-6)), least) - least) / (most - least))
  for (const f of faults) {
    doc.rect(x(f.atS), top, Math.max(1.5, x(Math.min(last, f.atS + f.forS)) - x(f.atS)), height).fillOpacity(0.12)
    doc.fill(inks.bad).fillOpacity(1)
  }
  doc.fontSize(7.5)
  for (let e = Math.ceil(least); e <= most; e++) {
    const at = y(10 ** e)
    doc
      .moveTo(left, at)
      .lineTo(left + width, at)
      .lineWidth(0.4)
      .stroke(inks.line)
    doc.fillColor(inks.muted).text(spanOf(10 ** e), MARGIN, at - 4, { width: 36, align: 'right' })
  }
  for (const [of, ink] of [
    ['p99', inks.clay],
    ['p50', inks.slate],
  ] as const) {
    for (const piece of piecesOf(curve)) {
      piece.forEach((p, i) => {
        if (i === 0) doc.moveTo(x(p.atS), y(p[of]))
        else doc.lineTo(x(p.atS), y(p[of]))
      })
      if (piece.length === 1) doc.lineTo(x(piece[0]!.atS) + 2, y(piece[0]![of]))
    }
    doc.lineWidth(1).stroke(ink)
  }
  doc
    .fillColor(inks.muted)
    .text(`0 to ${last} s; 99 of 100 within (clay), half within (slate)${faults.length > 0 ? ', faults shaded' : ''}`, left, top + height + 4)
  doc.x = MARGIN
}

/** A report on paper. */
export function pdfOf(r: ProofReport, how: { fingerprint: string; command: string }): Promise<Buffer> {
  const doc = new PDFDocument({ size: 'A4', margin: MARGIN, info: { Title: latin(`${r.name}: proof run`), CreationDate: new Date(r.endedAt) } })
  const chunks: Buffer[] = []
  const done = new Promise<Buffer>((resolve, reject) => {
    doc.on('data', (c: Buffer) => chunks.push(c))
    doc.on('end', () => resolve(Buffer.concat(chunks)))
    doc.on('error', reject)
  })
  doc.font('Helvetica-Bold').fontSize(17).fillColor(inks.ink).text(latin(r.name))
  doc
    .fontSize(11)
    .fillColor(states[r.outcome] ?? inks.ink)
    .text(`${outcomeWords[r.outcome]}.`)
  const of = `${r.deliveries.length} ${r.deliveries.length === 1 ? 'publication' : 'publications'}`
  doc.font('Helvetica').fontSize(9).fillColor(inks.ink)
  doc.text(latin(`${r.why} ${r.counts.produced} messages of ${of} in ${r.seconds} s, ${r.startedAt} to ${r.endedAt}, by ${r.by}.`.trim()))
  heading(doc, 'Limits')
  if (r.limits.length === 0) doc.text('No limit was to be held.')
  for (const l of r.limits) {
    const { y } = doc
    doc.fillColor(states[l.outcome]!).text(l.outcome, MARGIN, y, { width: 60 })
    doc.fillColor(inks.ink).text(latin(l.words), MARGIN + 64, y, { width: doc.page.width - 2 * MARGIN - 64 })
  }
  doc.x = MARGIN
  for (const d of r.deliveries) {
    heading(doc, latin(`${d.publication} to ${d.destination}`))
    const { produced, ...others } = d.counts
    const told = Object.entries(others).filter(([, n]) => n > 0)
    facts(doc, [
      ['messages', produced === 0 ? 'none' : `${produced}, number ${d.first} to ${d.last}`],
      ['became', told.map(([what, n]) => `${n} ${what === 'waiting' ? 'without a verdict' : what}`).join(', ') || '-'],
      ['latency', d.latency ? `p50 ${d.latency.p50} ms, p99 ${d.latency.p99} ms, longest ${d.latency.max} ms` : '-'],
      ['witness', d.witnessed ? 'reads the far end' : 'none: what arrived is not known'],
      ['version', `${d.version}, plan SHA-256 ${d.planSha256}`],
    ])
  }
  picture(doc, r)
  if (r.faults.length > 0) {
    heading(doc, 'Faults')
    facts(
      doc,
      r.faults.map((f) => [`after ${f.atS} s`, `${f.words}; ${f.connections} connections; ${recoveryWords(f)}`]),
    )
  }
  heading(doc, 'Destinations')
  facts(
    doc,
    r.destinations.map((d) => [
      d.name,
      `${d.kind}, version ${d.version}, ${d.address}; ${d.certificates.map((c) => `${c.use} certificate SHA-256 ${c.sha256}`).join('; ') || 'no certificates'}`,
    ]),
  )
  heading(doc, 'Clocks, ahead of this machine')
  facts(
    doc,
    r.clocks.map((c) => [c.name, `${Math.round(c.offsetMs)} ms, known to ${Math.round(c.withinMs)} ms`]),
  )
  heading(doc, 'Environment')
  const e = r.environment
  facts(doc, [
    ['installation', `${e.installation}, node ${e.node}`],
    ['Embrik', `${e.embrik} on ${e.runtime}, ${e.system}, ${e.processors} processors, ${e.memoryMb} MB`],
    ['load', r.load.multiple === 1 ? 'as it is' : `${r.load.tags} simulated tags at ${r.load.multiple} times their pace`],
  ])
  heading(doc, 'How to check it')
  doc.text(
    'This file is signed with the key of the plant. Ask the plant for the fingerprint of its key over another way than this report came, and hold it against the one below; then run the command beside this file.',
  )
  doc.moveDown(0.4).font('Courier').fontSize(8).text(how.fingerprint).text(how.command)
  doc.end()
  return done
}

import type { LimitResult, ProofReport } from '~/contract/prove'
import { spanOf } from './limits'
import { piecesOf } from './measure'
import { outcomeWords, recoveryWords } from './words'

const escaped = (text: string): string => text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('>', '&gt;').replaceAll('"', '&quot;')
/** A digest or an address may be broken anywhere, a word may not. */
const isLong = (text: string) => /\S{30}/.test(text)
const cell = (value: string | number | null, kind = 'td') => {
  const text = value === null ? '-' : String(value)
  return `<${kind}${isLong(text) ? ' class="long"' : ''}>${escaped(text)}</${kind}>`
}
const table = (caption: string, heads: readonly string[], rows: readonly (readonly (string | number | null)[])[]) =>
  rows.length === 0
    ? ''
    : `<h2>${escaped(caption)}</h2>\n<table><thead><tr>${heads.map((h) => cell(h, 'th')).join('')}</tr></thead>\n<tbody>\n${rows
        .map((r) => `<tr>${r.map((c) => cell(c)).join('')}</tr>`)
        .join('\n')}\n</tbody></table>`

const style = `body{font:14px/1.45 "Atkinson Hyperlegible Next",system-ui,sans-serif;color:#23201c;background:#f7f4ef;margin:0 auto;max-width:960px;padding:24px}
h1{font-size:22px;margin:0 0 4px}h2{font-size:15px;margin:22px 0 6px;border-bottom:1px solid #ddd6cb;padding-bottom:3px}
table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:3px 10px 3px 0;border-bottom:1px solid #ddd6cb;font-variant-numeric:tabular-nums;vertical-align:top}.long{overflow-wrap:anywhere}
th{font-weight:400;color:#5c574f}code,pre{font:12.5px/1.5 "Atkinson Hyperlegible Mono",ui-monospace,monospace}pre{background:#fff;border:1px solid #ddd6cb;padding:8px;white-space:pre-wrap;overflow-wrap:anywhere}
.held{color:#1f7666}.broken,.failed{color:#8a2450}.unproven,.stopped{color:#7a5410}svg{width:100%;height:auto;background:#fff;border:1px solid #ddd6cb}@media print{body{background:#fff}}`

/** Latency over the run as a picture: p50 and p99 of each moment, on a scale of equal ratios. */
function picture(curve: ProofReport['curve'], faults: ProofReport['faults'], seconds: number): string {
  if (curve.length < 2) return ''
  const [width, height, left, bottom] = [920, 220, 60, 24]
  const most = Math.max(...curve.map((p) => p.p99), 10)
  const least = Math.max(0.1, Math.min(...curve.map((p) => p.p50)))
  const top = Math.log10(most * 1.3)
  const floor = Math.log10(least / 1.3)
  const last = Math.max(seconds, curve.at(-1)!.atS)
  const x = (s: number) => Math.round((left + ((width - left - 8) * s) / last) * 10) / 10
  const y = (ms: number) => Math.round((8 + (height - bottom - 8) * (1 - (Math.log10(Math.max(ms, least / 1.3)) - floor) / (top - floor))) * 10) / 10
  // A piece of one point is a short dash.
  const line = (of: 'p50' | 'p99') =>
    piecesOf(curve)
      .map((piece) => piece.map((p, i) => `${i === 0 ? 'M' : 'L'}${x(p.atS)} ${y(p[of])}`).join('') + (piece.length === 1 ? 'h3' : ''))
      .join('')
  const ticks: string[] = []
  for (let e = Math.ceil(floor); e <= top; e++)
    ticks.push(
      `<line x1="${left}" x2="${width - 8}" y1="${y(10 ** e)}" y2="${y(10 ** e)}" stroke="#ddd6cb"/><text x="${left - 6}" y="${y(10 ** e) + 4}" text-anchor="end" font-size="11">${spanOf(10 ** e)}</text>`,
    )
  const bands = faults.map(
    (f) =>
      `<rect x="${x(f.atS)}" y="8" width="${Math.max(2, x(Math.min(last, f.atS + f.forS)) - x(f.atS))}" height="${height - bottom - 8}" fill="#8a2450" opacity="0.12"/>`,
  )
  return `<h2>Latency over the run</h2>
<svg viewBox="0 0 ${width} ${height}" role="img" aria-label="Latency over the run: half of the messages and 99 of 100 arrived within">
${bands.join('')}${ticks.join('')}
<path d="${line('p99')}" fill="none" stroke="#a8482f" stroke-width="1.6"/><path d="${line('p50')}" fill="none" stroke="#2f5877" stroke-width="1.6"/>
<text x="${left}" y="${height - 7}" font-size="11">0 s</text><text x="${width - 8}" y="${height - 7}" text-anchor="end" font-size="11">${last} s</text>
<text x="${left + 60}" y="${height - 7}" font-size="11" fill="#a8482f">99 of 100 within</text><text x="${left + 170}" y="${height - 7}" font-size="11" fill="#2f5877">half within</text>${bands.length > 0 ? `<text x="${left + 250}" y="${height - 7}" font-size="11" fill="#8a2450">faults</text>` : ''}
</svg>`
}

const limitRow = (l: LimitResult) => `<tr><td class="${l.outcome}">${l.outcome}</td>${cell(l.words)}</tr>`

type Counted = keyof ProofReport['counts']
const heads: [key: Counted, head: string][] = [
  ['produced', 'produced'],
  ['confirmed', 'confirmed'],
  ['missing', 'missing'],
  ['doubled', 'doubled'],
  ['altered', 'altered'],
  ['disordered', 'out of order'],
  ['late', 'late'],
  ['dropped', 'dropped'],
  ['rejected', 'rejected'],
  ['unknown', 'unknown'],
  ['waiting', 'without verdict'],
]
const always: ReadonlySet<Counted> = new Set<Counted>(['produced', 'confirmed', 'missing', 'doubled', 'altered'])

/** What became of the messages of each publication; what became of none has no column. */
function messages({ deliveries, counts }: ProofReport): string {
  const shown = heads.filter(([key]) => always.has(key) || counts[key] > 0)
  const none = heads.filter(([key]) => !always.has(key) && counts[key] === 0).map(([, head]) => head)
  return `${table(
    'Messages',
    ['publication', 'destination', 'numbers', ...shown.map(([, head]) => head), 'p50', 'p99'],
    deliveries.map((d) => [
      ...[d.publication, d.witnessed ? d.destination : `${d.destination} (no witness)`, d.counts.produced === 0 ? null : `${d.first} to ${d.last}`],
      ...shown.map(([key]) => d.counts[key]),
      ...[d.latency ? spanOf(d.latency.p50) : null, d.latency ? spanOf(d.latency.p99) : null],
    ]),
  )}${deliveries.length > 0 && none.length > 0 ? `<p>None ${none.join(', ')}.</p>` : ''}`
}

/** A report that stands alone: no script, no picture and no font from elsewhere. */
export function htmlOf(r: ProofReport, how: { fingerprint: string; command: string }): string {
  const c = r.counts
  return `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>${escaped(r.name)}: proof run</title><meta name="viewport" content="width=device-width"><style>${style}</style></head>
<body>
<h1>${escaped(r.name)}</h1>
<p><b class="${r.outcome}">${outcomeWords[r.outcome]}.</b> ${escaped(r.why)} ${c.produced} messages of ${r.deliveries.length} ${r.deliveries.length === 1 ? 'publication' : 'publications'} in ${r.seconds} s, ${escaped(r.startedAt)} to ${escaped(r.endedAt)}, by ${escaped(r.by)}.</p>
<h2>Limits</h2>
${r.limits.length === 0 ? '<p>No limit was to be held.</p>' : `<table><tbody>${r.limits.map(limitRow).join('\n')}</tbody></table>`}
${messages(r)}
${picture(
  r.curve,
  r.faults.filter((f) => f.begun),
  r.seconds,
)}
${table(
  'Faults',
  ['what', 'after s', 'connections', 'what came after'],
  r.faults.map((f) => [f.words, f.atS, f.connections, recoveryWords(f)]),
)}
${table(
  'Destinations',
  ['name', 'kind', 'settings', 'address', 'certificates (SHA-256)'],
  r.destinations.map((d) => [
    d.name,
    d.kind,
    `version ${d.version}`,
    d.address,
    d.certificates.map((x) => `${x.use} ${x.sha256}`).join(', ') || 'none',
  ]),
)}
${table(
  'Clocks, ahead of this machine',
  ['peer', 'ms', 'known to ms', 'told by'],
  r.clocks.map((p) => [p.name, Math.round(p.offsetMs), Math.round(p.withinMs), p.how]),
)}
${table(
  'What was tested',
  ['publication', 'destination', 'version', 'plan (SHA-256)'],
  r.deliveries.map((d) => [d.publication, d.destination, d.version, d.planSha256]),
)}
${table(
  'Environment',
  ['what', 'is'],
  [
    ['installation', r.environment.installation],
    ['node', r.environment.node],
    ['Embrik', r.environment.embrik],
    ['runtime', r.environment.runtime],
    ['system', r.environment.system],
    ['processors', r.environment.processors],
    ['memory', `${r.environment.memoryMb} MB`],
    ['load', r.load.multiple === 1 ? 'as it is' : `${r.load.tags} simulated tags at ${r.load.multiple} times their pace`],
  ],
)}
<h2>How to check it</h2>
<p>This file, the JSON beside it and the PDF are signed with the key of the plant. Ask the plant for the fingerprint of its key over another way than this report came, and hold it against <code>${escaped(how.fingerprint)}</code>. Then:</p>
<pre>${escaped(how.command)}</pre>
<p>It says <code>Verified OK</code>, or the report was changed after it was signed.</p>
<p>Numbers of messages are those that travel with them, by which each can be looked up in the ledger. Quantiles of latency are within 5 %.</p>
</body></html>
`
}

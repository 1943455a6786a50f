import type { ProofReport } from '~/contract/prove'

const escaped = (text: string): string =>
  text
    // biome-ignore lint/suspicious/noControlCharactersInRegex: XML 1.0 has no such characters
    .replace(/[\u0000-\u0008\u000b\u000c\u000e-\u001f\ufffe\uffff]|[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g, '\ufffd')
    .replaceAll('&', '&amp;')
    .replaceAll('<', '&lt;')
    .replaceAll('>', '&gt;')
    .replaceAll('"', '&quot;')
    .replaceAll('\n', '&#10;')

/** A report as test results, a case for each limit: what could not be measured counts as skipped, which pipelines show. */
export function junitOf(report: ProofReport): string {
  const over = report.outcome === 'stopped' || report.outcome === 'failed'
  const cases = report.limits.map((l) => {
    const inner =
      l.outcome === 'broken' ? `<failure message="${escaped(l.words)}"/>` : l.outcome === 'unproven' ? `<skipped message="${escaped(l.words)}"/>` : ''
    return `    <testcase classname="${escaped(report.name)}" name="${escaped(l.limit)} at most ${l.of}" time="${report.seconds}">${inner}</testcase>`
  })
  if (over)
    cases.push(
      `    <testcase classname="${escaped(report.name)}" name="comes to its end" time="${report.seconds}"><error message="${escaped(report.why || report.outcome)}"/></testcase>`,
    )
  const count = (o: string) => report.limits.filter((l) => l.outcome === o).length
  const tallies = `tests="${cases.length}" failures="${count('broken')}" errors="${over ? 1 : 0}" skipped="${count('unproven')}" time="${report.seconds}"`
  return [
    '<?xml version="1.0" encoding="UTF-8"?>',
    `<testsuites ${tallies}>`,
    `  <testsuite name="${escaped(report.name)}" timestamp="${report.startedAt}" ${tallies}>`,
    ...cases,
    '  </testsuite>',
    '</testsuites>',
    '',
  ].join('\n')
}

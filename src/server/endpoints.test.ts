import { expect, it } from 'vitest'
import { roles as roleNames } from '~/contract/role'
import { type Route, type RouteKey, routes } from '~/contract/routes'
import { work } from '~/contract/work'

/** The table of all endpoints as the documents have it: brought up to date by `npx vitest run --project unit -u src/server/endpoints.test.ts`. */
function table(): string {
  const groups = new Map<string, string[]>()
  for (const [key, r] of Object.entries(routes) as [RouteKey, Route][]) {
    const body = r.body || r.from ? (r.role === null ? '16 KiB' : `${r.bodyMax ?? 8} MB`) : ''
    const line = `| \`${r.method} ${r.path}\` | ${r.role ?? 'anybody'} | ${r.summary} | ${body} | ${work[key]} |`
    groups.set(r.group, [...(groups.get(r.group) ?? []), line])
  }
  const head = '| endpoint | least role | what it does | body at most | the most that one request causes |\n|---|---|---|---|---|'
  const parts = [...groups].map(([name, lines]) => `## ${name}\n\n${head}\n${lines.join('\n')}\n`)
  const roles = `Roles, each with all that those before it may: ${roleNames.join(', ')}. "Anybody" has not logged in.`
  return `# Endpoints: who may, and what it costs\n\n${roles} JSON deeper than 64 levels is refused everywhere. The description for programs is \`/api/openapi.json\`.\n\n${parts.join('\n')}`
}

it('the document lists every endpoint with its least role and the most work that one request causes', async () => {
  await expect(table()).toMatchFileSnapshot('../../docs/endpoints.md')
})

it('what a stranger may send or cause is little', () => {
  const open = (Object.entries(routes) as [RouteKey, Route][]).filter(([, r]) => r.role === null)
  expect(open.map(([key]) => key).sort()).toEqual(['beginSignOn', 'endSignOn', 'logIn', 'openapi', 'setUp', 'waysIn'])
})

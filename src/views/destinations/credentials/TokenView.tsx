import { useMemo } from 'react'
import type { TokenRecipe } from '~/contract/token'
import { shownToken } from '~/core/credential/token/shown'
import { serverNow } from '~/ui/clock'
import { Heading } from '~/ui/Notes'

/** Where a token may go, when nothing yet uses it. */
const EXAMPLE = { host: 'hub.example', port: 8883, identity: 'works-edge-1' }

/** What a recipe gives: decoded, and without its signature. */
export function TokenView({ recipe, user }: { recipe: TokenRecipe; user: string }) {
  const parts = useMemo(() => {
    const now = serverNow()
    return shownToken(recipe, user, EXAMPLE, { now, ends: now + recipe.lifetimeS * 1000, random: '5f0c7a52' })
  }, [recipe, user])
  return (
    <section aria-label="What it gives">
      <Heading>What it gives</Heading>
      <div className="mb-1 text-xs text-muted">
        For {EXAMPLE.identity} at {EXAMPLE.host}, decoded; its signature is left out
      </div>
      {parts.map(({ name, text }) => (
        <div key={name} className="py-1">
          <div className="text-muted">{name}</div>
          <pre className="rounded-sm bg-well px-2 py-1 font-mono text-xs whitespace-pre-wrap [overflow-wrap:anywhere]">{text}</pre>
        </div>
      ))}
    </section>
  )
}

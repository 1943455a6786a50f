import type { TokenRecipe } from '~/contract/token'
import { jwtParts, signedText, type TokenAbout, type TokenTimes, tokenAround, userFor } from './fill'

/** A part of what a recipe gives, for people to read. */
export interface ShownPart {
  name: string
  text: string
}

/** In the place of a signature that nobody has made. */
export const NO_SIGNATURE = '...'

/** What a recipe gives at this moment, decoded, without its signature: no key is needed for it. */
export function shownToken(recipe: TokenRecipe, user: string, about: TokenAbout, times: TokenTimes): ShownPart[] {
  const who = userFor(user, about)
  const parts: ShownPart[] = who === '' ? [] : [{ name: 'User', text: who }]
  if (recipe.form === 'jwt') {
    const { header, claims } = jwtParts(recipe, about, times)
    parts.push({ name: 'Header', text: JSON.stringify(header) }, { name: 'Claims', text: JSON.stringify(claims, null, 2) })
  } else
    parts.push(
      { name: 'Signed text', text: signedText(recipe, about, times) },
      { name: 'Token', text: tokenAround(recipe, about, times, NO_SIGNATURE) },
    )
  return parts
}

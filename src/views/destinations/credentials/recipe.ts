import { TokenRecipe } from '~/contract/token'
import { recipeProblems } from '~/core/credential/token/fill'

/** A recipe as it is typed: all fields of both forms, so that going from one to the other and back loses nothing. */
export interface TypedRecipe {
  form: TokenRecipe['form']
  algorithm: 'HS256' | 'RS256' | 'ES256'
  keyId: string
  claims: string
  hash: 'SHA-256' | 'SHA-384' | 'SHA-512'
  signed: string
  encoding: 'base64' | 'base64url' | 'hex'
  token: string
  keyAs: 'text' | 'base64' | 'hex'
  lifetimeS: string
  marginS: string
}

export const freshRecipe: TypedRecipe = {
  form: 'jwt',
  algorithm: 'ES256',
  keyId: '',
  claims: 'sub: {identity}\naud: {host}\niat: {now}\nexp: {ends}',
  hash: 'SHA-256',
  signed: '{identity}\n{ends}',
  encoding: 'base64',
  token: 'identity={identity}&ends={ends}&signature={signature|url}',
  keyAs: 'base64',
  lifetimeS: '3600',
  marginS: '300',
}

/** A kept recipe, to be typed on. */
export const typedOf = ({ lifetimeS, marginS, ...recipe }: TokenRecipe): TypedRecipe => ({
  ...freshRecipe,
  ...recipe,
  lifetimeS: String(lifetimeS),
  marginS: String(marginS),
})

const numberOf = (text: string): number => (text.trim() === '' ? Number.NaN : Number(text))

/** What is typed as the recipe that it is; what cannot be used stays in, for whoever checks it. */
export function recipeOf(typed: TypedRecipe): TokenRecipe {
  const { form, algorithm, keyId, claims, hash, signed, encoding, token, keyAs } = typed
  const terms = { keyAs, lifetimeS: numberOf(typed.lifetimeS), marginS: numberOf(typed.marginS) }
  return form === 'jwt' ? { form, algorithm, keyId, claims, ...terms } : { form, hash, signed, encoding, token, ...terms }
}

/** What is wrong with it, by field: `recipe.claims`, `user`. */
export function problemsOf(typed: TypedRecipe, user: string): Record<string, string> {
  const recipe = recipeOf(typed)
  const found = TokenRecipe.safeParse(recipe)
  const out: Record<string, string> = {}
  for (const issue of found.error?.issues ?? []) out[`recipe.${issue.path.join('.')}`] ??= issue.message
  return { ...recipeProblems(recipe, user), ...out }
}

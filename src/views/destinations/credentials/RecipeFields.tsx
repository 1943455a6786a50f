import type { ReactNode } from 'react'
import { KeyText, TokenAlgorithm } from '~/contract/token'
import { AreaField, Choice, SelectField, TextField } from '~/ui/Field'
import type { TypedRecipe } from './recipe'

const keyWords: Record<KeyText, string> = { text: 'text', base64: 'base64', hex: 'hex' }
const PLACEHOLDERS = '{host} {port} {identity} {now} {ends} {random}'

/** Whether a recipe signs with a private key, not with one that both sides have. */
export const isPrivate = (recipe: TypedRecipe): boolean => recipe.form === 'jwt' && recipe.algorithm !== 'HS256'

/** How tokens are made; `keyField`: where the key itself is typed. */
export function RecipeFields({
  recipe,
  user,
  wrong,
  onRecipe,
  onUser,
  keyField,
}: {
  recipe: TypedRecipe
  user: string
  wrong(field: string): string | undefined
  onRecipe(next: TypedRecipe): void
  onUser(user: string): void
  keyField?: ReactNode
}) {
  const set = (part: Partial<TypedRecipe>) => onRecipe({ ...recipe, ...part })
  const pem = isPrivate(recipe)
  return (
    <>
      <div className="py-1 pl-[142px]">
        <Choice
          label="Form"
          value={recipe.form}
          options={[
            { value: 'jwt', label: 'JWT' },
            { value: 'hmac', label: 'Signed text (HMAC)' },
          ]}
          onChange={(form) => set({ form })}
        />
      </div>
      {recipe.form === 'jwt' ? (
        <>
          <SelectField
            label="Signed by"
            value={recipe.algorithm}
            onChange={(e) => set({ algorithm: e.target.value as TokenAlgorithm })}
            help={pem ? 'A private key, whose public half the receiver has' : 'A key that both sides have'}
          >
            {TokenAlgorithm.options.map((a) => (
              <option key={a}>{a}</option>
            ))}
          </SelectField>
          <AreaField
            label="Claims"
            rows={5}
            value={recipe.claims}
            error={wrong('recipe.claims')}
            onChange={(e) => set({ claims: e.target.value })}
            help={`One a line, name: value. ${PLACEHOLDERS}`}
          />
          <TextField
            label="Key id"
            mono
            value={recipe.keyId}
            error={wrong('recipe.keyId')}
            onChange={(e) => set({ keyId: e.target.value })}
            help="By which the receiver knows the key; empty where it needs none"
          />
        </>
      ) : (
        <>
          <AreaField
            label="Signed text"
            rows={3}
            value={recipe.signed}
            error={wrong('recipe.signed')}
            onChange={(e) => set({ signed: e.target.value })}
            help={`${PLACEHOLDERS}; {host|url} is percent-encoded`}
          />
          <SelectField label="Signed by" value={recipe.hash} onChange={(e) => set({ hash: e.target.value as TypedRecipe['hash'] })}>
            {(['SHA-256', 'SHA-384', 'SHA-512'] as const).map((h) => (
              <option key={h} value={h}>
                HMAC with {h}
              </option>
            ))}
          </SelectField>
          <SelectField label="Signature in" value={recipe.encoding} onChange={(e) => set({ encoding: e.target.value as TypedRecipe['encoding'] })}>
            {(['base64', 'base64url', 'hex'] as const).map((e) => (
              <option key={e}>{e}</option>
            ))}
          </SelectField>
          <AreaField
            label="Token"
            rows={2}
            value={recipe.token}
            error={wrong('recipe.token')}
            onChange={(e) => set({ token: e.target.value })}
            help="With {signature}, or {signature|url}, where it belongs"
          />
        </>
      )}
      <TextField
        label="User"
        mono
        value={user}
        error={wrong('user')}
        onChange={(e) => onUser(e.target.value)}
        help="Said with the token: {host} {port} {identity}; empty where nobody asks"
      />
      {keyField}
      {!pem && (
        <SelectField label="Key written as" value={recipe.keyAs} onChange={(e) => set({ keyAs: e.target.value as KeyText })}>
          {KeyText.options.map((k) => (
            <option key={k} value={k}>
              {keyWords[k]}
            </option>
          ))}
        </SelectField>
      )}
      <TextField
        label="Good for"
        unit="s"
        inputMode="numeric"
        value={recipe.lifetimeS}
        error={wrong('recipe.lifetimeS')}
        onChange={(e) => set({ lifetimeS: e.target.value })}
      />
      <TextField
        label="Renewed"
        unit="s before it ends"
        inputMode="numeric"
        value={recipe.marginS}
        error={wrong('recipe.marginS')}
        onChange={(e) => set({ marginS: e.target.value })}
      />
    </>
  )
}

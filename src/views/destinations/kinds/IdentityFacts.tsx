import { Fact } from '~/ui/Notes'
import type { FactsProps } from './kind-view'

/** Who connects, and which authority it trusts; nothing where credentials are not to be seen. */
export function IdentityFacts({
  credential,
  identity,
  authority,
}: Pick<FactsProps<'mqtt'>, 'credential'> & { identity: string | null; authority?: string | null }) {
  if (!credential) return null
  return (
    <>
      <Fact name="Identity" mono={false}>
        {credential(identity)}
      </Fact>
      {authority !== undefined && (
        <Fact name="Authority" mono={false}>
          {credential(authority)}
        </Fact>
      )}
    </>
  )
}

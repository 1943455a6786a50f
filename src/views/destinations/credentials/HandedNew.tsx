import type { Credential } from '~/contract/credential'
import type { Offer } from '~/contract/intake'
import { Button } from '~/ui/Button'
import { SelectField } from '~/ui/Field'
import { ProblemNote } from '~/ui/Notes'
import { HandOver } from '../intake/HandOver'
import { offerWords, Phrase } from '../intake/TakeIn'
import type { useHanded } from '../intake/useHanded'
import { Compared } from './Compared'

interface Props {
  one: Credential
  handed: ReturnType<typeof useHanded>
  /** What of it could take its place, and which is to. */
  offers: readonly Offer[]
  offer: Offer | null
  onOffer(id: string): void
}

/** The new one among what was handed over, beside the old one. */
export function HandedNew({ one, handed, offers, offer, onOffer }: Props) {
  const { taken, failure } = handed
  return (
    <>
      <HandOver handed={handed} />
      {failure && (
        <div className="mt-3">
          <ProblemNote problem={failure} action={<Button onClick={handed.again}>Look at it again</Button>} />
        </div>
      )}
      {taken?.locked && <Phrase onTry={handed.tryPhrase} />}
      {taken && !offer && !taken.locked && (
        <p role="status" className="mt-3 text-bad">
          There is nothing in it that could take its place: no {offerWords[one.kind as Offer['kind']]}.
        </p>
      )}
      {offers.length > 1 && (
        <SelectField label="By which" value={offer?.id} onChange={(e) => onOffer(e.target.value)}>
          {offers.map((o) => (
            <option key={o.id} value={o.id}>
              {`${o.name}, until ${o.endsAt?.slice(0, 10) ?? 'further notice'}`}
            </option>
          ))}
        </SelectField>
      )}
      {offer?.facts && one.facts && <Compared one={one} offer={offer} />}
    </>
  )
}

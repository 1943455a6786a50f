import type { Destination } from '~/contract/destination'
import type { Finding } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { SelectField } from '~/ui/Field'
import { countText } from '~/ui/time'
import { isWitnessed } from '../destinations/kinds'
import { holdsWords } from './preflight/words'
import { Section } from './Section'
import type { PublicationEdit } from './usePublicationDraft'

/** What every clause of the sentence has: whether it is open, and what is wrong in it. */
interface Clause {
  open: boolean
  onToggle(): void
  onMend?: ((set: Record<string, unknown>) => void) | undefined
  findings: readonly Finding[]
  error?: string | undefined
}

/** Through which destination it goes. */
export function Through({
  destinations,
  chosen,
  onChoose,
  ...clause
}: Clause & { destinations: readonly Destination[]; chosen: string; onChoose(id: string): void }) {
  const destination = destinations.find((d) => d.id === chosen)
  return (
    <Section title="Through" summary={destination ? <b>{destination.name}</b> : 'no destination yet'} {...clause}>
      {destinations.length === 0 ? (
        <a className="text-slate underline" href="/destinations?add">
          Add a destination first
        </a>
      ) : (
        <SelectField label="Destination" value={chosen} onChange={(e) => onChoose(e.target.value)}>
          <option value="" disabled>
            choose
          </option>
          {destinations.map((d) => (
            <option key={d.id} value={d.id}>
              {d.name}
            </option>
          ))}
        </SelectField>
      )}
    </Section>
  )
}

/** What guards it on its way. */
export function Safely({ destination, edit, ...clause }: Clause & { destination: Destination | undefined; edit: PublicationEdit }) {
  const { preview, draft, set, setTakeBack } = edit
  const { leaves, together } = kindOf(draft.address)
  const takeBack = edit.takeBack ?? leaves.taken
  return (
    <Section
      title="Safely"
      summary={
        destination ? (
          <>
            {draft.ahead && (
              <>
                <b>ahead</b> of what waits,{' '}
              </>
            )}
            outbox up to <b>{destination.settings.outboxMb} MB</b>
            {destination.settings.outboxHours > 0 && (
              <>
                {' '}
                and <b>{destination.settings.outboxHours} h</b>
              </>
            )}
            {edit.preview?.reach && holdsWords(edit.preview.reach) && `, ${holdsWords(edit.preview.reach)}`}, oldest dropped first;{' '}
            {isWitnessed(destination) ? 'a witness reads it back' : 'no witness'}
          </>
        ) : (
          '-'
        )
      }
      {...clause}
    >
      {preview && preview.leftBehindCount > 0 && (
        <div className="mb-2 rounded-sm border border-uncertain/40 bg-sheet px-3 py-1.5">
          <div>
            {countText(preview.leftBehindCount)} {leaves.nouns[preview.leftBehindCount === 1 ? 0 : 1]} of the live version would stay there:
          </div>
          <div className="font-mono text-[12px] text-muted">{preview.leftBehind.slice(0, 4).join(', ')}</div>
          <label className="mt-1 flex items-center gap-2">
            <input type="checkbox" className="accent-(--clay)" checked={takeBack} onChange={(e) => setTakeBack(e.target.checked)} />
            take them back at the go-live: an empty message in the place of each
          </label>
        </div>
      )}
      {together === null && draft.shape.kind !== 'sparkplug-b' && (
        <label className="mb-2 flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-(--clay)"
            checked={draft.ahead === true}
            onChange={(e) => set({ ahead: e.target.checked || undefined })}
          />
          goes ahead of what waits: by a connection and an outbox of its own, which it shares with all that go ahead there
        </label>
      )}
      {draft.ahead && together !== null && (
        <label className="mb-2 flex items-center gap-2">
          <input type="checkbox" className="accent-(--clay)" checked onChange={() => set({ ahead: undefined })} />
          goes ahead of what waits, which cannot be: {together}
        </label>
      )}
      <p className="text-muted">
        Messages wait on disk until the destination has them, and are sent again in order after a lost link. Limit and witness are the destination's:{' '}
        <a className="text-slate underline" href="/destinations">
          change them there
        </a>
        .
      </p>
    </Section>
  )
}

import { useEffect, useState } from 'react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import type { HandedOver, Offer, TakenIn } from '~/contract/intake'
import { Button } from '~/ui/Button'
import { PasswordField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Modal } from '~/ui/Modal'
import { Heading, ProblemNote } from '~/ui/Notes'
import { call, refresh, useCall } from '../../app/api'
import { useFields } from '../../shared/useFields'
import { PlacesField, placesError, placesOf } from '../CredentialPlaces'
import { placeFor } from './addresses'
import { FoundList, IntakeFindings } from './FoundList'
import { HandOver } from './HandOver'
import { type Begun, useHanded } from './useHanded'

interface Props {
  /** An address alone is of use too: there is a form to fill. */
  fills: boolean
  /** What was dropped or pasted already. */
  begun?: Begun
  onClose(): void
  /** How tokens are made from a shared key, where that is known. */
  maker?: HandedOver['maker']
  /** What was found in what was handed over, each time it was looked at. */
  onLooked?(address: TakenIn['address'], handed: Begun): void
  /** What was kept, and the address that stood with it; `ofEvents`: the log-in among them by which events are read. */
  onKept(kept: Credential[], address: TakenIn['address'], ofEvents: string | null): void
}

export const offerWords: Record<Offer['kind'], string> = {
  certificate: 'certificate with its key',
  authority: 'authority',
  password: 'log-in',
  token: 'key for tokens',
}

/** Takes in whatever somebody was handed, shows what was found in it, and keeps of that what is chosen. */
export function TakeIn({ fills, begun = {}, maker, onClose, onLooked, onKept }: Props) {
  const handed = useHanded(begun, maker)
  const { taken, failure, busy, anything } = handed
  // biome-ignore lint/correctness/useExhaustiveDependencies: once for each look
  useEffect(() => {
    if (taken) onLooked?.(taken.address, { read: handed.handed.files, text: handed.handed.text })
  }, [taken])
  const [names, setNames] = useState<Readonly<Record<string, string>>>({})
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set())
  const [typed, setTyped] = useState<string | null>(null)
  const { fields, busy: keeping, run } = useFields()
  const address = taken?.address
  // A log-in goes where it was handed over for, unless somebody says otherwise.
  const places = typed ?? (address ? placeFor(address) : '')
  const known = useCall('listCredentials')
  const wanted = (taken?.offers ?? []).filter((o) => !left.has(o.id))
  const keep = wanted.filter((o) => o.there === null).map((o) => ({ id: o.id, name: names[o.id] ?? o.name }))
  const there = wanted.flatMap((o) => known.data?.filter((c) => c.id === o.there) ?? [])
  const elsewhere = Object.entries(fields).find(([field]) => !/^(keep|places)\b/.test(field))
  const usable = wanted.length > 0 || (fills && (address?.host ?? null) !== null)
  const save = () =>
    run(async () => {
      const body = { ...handed.handed, keep, places: keep.some((k) => k.id === 'log-in') ? placesOf(places) : [] }
      const kept = keep.length > 0 ? await call('keepHanded', { body }) : []
      await refresh('listCredentials')
      if (kept.length > 0) toast.success(kept.length === 1 ? `${kept[0]!.name} is kept` : `${kept.length} credentials are kept`)
      const ofEvents = kept[keep.findIndex((k) => k.id === 'events log-in')]?.id ?? null
      onKept([...kept, ...there], taken!.address, ofEvents)
    })
  return (
    <Modal
      open
      onClose={onClose}
      width={860}
      title="Take in what you were handed"
      note="It is only looked at until you keep it; keys and passwords are encrypted then"
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={keeping} disabled={!usable || busy} onClick={() => void save()}>
            {keep.length === 0 && usable ? 'Go on with it' : keep.length < 2 ? 'Keep it' : `Keep all ${keep.length}`}
          </Button>
        </>
      }
    >
      <HandOver handed={handed} />
      {failure && (
        <div className="mt-3">
          <ProblemNote problem={failure} action={<Button onClick={handed.again}>Look at it again</Button>} />
        </div>
      )}
      {elsewhere && (
        <div className="mt-3">
          <ProblemNote problem={{ message: `The ${elsewhere[0]} cannot be kept so: ${elsewhere[1]}`, hint: 'Correct it in what you handed over' }} />
        </div>
      )}
      {taken?.locked && <Phrase onTry={handed.tryPhrase} />}
      {taken && taken.offers.length > 0 && (
        <>
          <Heading level={2}>To keep</Heading>
          <Form label="To keep" onSubmit={save}>
            {taken.offers.map((o) => (
              <OfferRow
                key={o.id}
                offer={o}
                name={names[o.id] ?? o.name}
                chosen={!left.has(o.id)}
                there={known.data?.find((c) => c.id === o.there)?.name ?? null}
                error={fields[`keep.${keep.findIndex((k) => k.id === o.id)}.name`]}
                onName={(name) => setNames({ ...names, [o.id]: name })}
                onChosen={(on) => setLeft(new Set(on ? [...left].filter((id) => id !== o.id) : [...left, o.id]))}
              />
            ))}
            {keep.some((k) => k.id === 'log-in') && <PlacesField value={places} onChange={setTyped} error={placesError(fields)} />}
          </Form>
        </>
      )}
      {taken && taken.findings.length > 0 && (
        <>
          <Heading level={2}>To be known of it</Heading>
          <IntakeFindings findings={taken.findings} />
        </>
      )}
      {taken && taken.pieces.length > 0 && (
        <>
          <Heading level={2} aside={busy && <span className="text-xs text-muted">looks at it</span>}>
            Found
          </Heading>
          <FoundList pieces={taken.pieces} onCorrect={handed.correct} />
        </>
      )}
      {!taken && busy && anything && (
        <p role="status" className="mt-3 text-muted">
          Looks at it
        </p>
      )}
    </Modal>
  )
}

interface OfferProps {
  offer: Offer
  name: string
  chosen: boolean
  /** As what it is kept already. */
  there: string | null
  error: string | undefined
  onName(name: string): void
  onChosen(on: boolean): void
}

function OfferRow({ offer, name, chosen, there, error, onName, onChosen }: OfferProps) {
  const { kind, facts, user } = offer
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-0.5 py-1">
      <input
        type="checkbox"
        aria-label={there === null ? `Keep ${name}` : `Use ${there}`}
        checked={chosen}
        onChange={(e) => onChosen(e.target.checked)}
        className="size-[15px] accent-(--clay)"
      />
      <span className="w-40 text-muted">{offerWords[kind]}</span>
      {there === null ? (
        <input
          aria-label={`Name of the ${offerWords[kind]}`}
          aria-invalid={error !== undefined}
          value={name}
          disabled={!chosen}
          onChange={(e) => onName(e.target.value)}
          className={`h-[27px] w-64 rounded-sm border bg-sheet px-2 disabled:opacity-60 ${error ? 'border-bad' : 'border-line'}`}
        />
      ) : (
        <span className="w-64 truncate" title={there}>
          is kept already: <b className="font-semibold">{there}</b>
        </span>
      )}
      <span className="text-[12.5px] text-muted">
        {facts
          ? `${facts.key}, until ${facts.notAfter.slice(0, 10)}${facts.chain > 1 ? `, with ${facts.chain - 1} more of its chain` : ''}`
          : `user ${user}`}
      </span>
      {error && (
        <span role="alert" className="w-full pl-[175px] text-xs text-bad">
          {error}
        </span>
      )}
    </div>
  )
}

/** Asks for the pass phrase of what is locked. */
export function Phrase({ onTry }: { onTry(phrase: string): void }) {
  const [phrase, setPhrase] = useState('')
  const send = () => {
    onTry(phrase)
    setPhrase('')
  }
  return (
    <>
      <Heading level={2}>Locked</Heading>
      <Form label="Locked" onSubmit={send} className="flex items-start gap-2">
        <div className="w-96">
          <PasswordField
            label="Pass phrase"
            value={phrase}
            onChange={(e) => setPhrase(e.target.value)}
            help="Tried on all that is locked; it is not kept"
          />
        </div>
        <div className="pt-1">
          <Button disabled={phrase === ''} onClick={send}>
            Open
          </Button>
        </div>
      </Form>
    </>
  )
}

import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Heading } from '~/ui/Notes'
import { call, refresh } from '../app/api'
import { useFields } from '../shared/useFields'

/** Places as typed, apart. */
export const placesOf = (text: string): string[] => text.split(/[\s,;]+/).filter(Boolean)

/** What is wrong with one of them, from an answer's fields. */
export const placesError = (fields: Record<string, string>): string | undefined => Object.entries(fields).find(([k]) => k.startsWith('places'))?.[1]

const HELP = 'Brokers, as mqtts://broker.example:8883. Elsewhere only an administrator can send it'

export function PlacesField({ value, onChange, error }: { value: string; onChange(text: string): void; error?: string | undefined }) {
  return <TextField label="Meant for" mono value={value} onChange={(e) => onChange(e.target.value)} help={HELP} error={error} />
}

/** Where a log-in may be sent, and for administrators how to say so anew. */
export function CredentialPlaces({ one, mayEdit }: { one: Credential; mayEdit: boolean }) {
  const [text, setText] = useState<string | null>(null)
  const { fields, busy, run } = useFields()
  const save = () =>
    run(async () => {
      await call('bindCredential', { params: { id: one.id }, body: { places: placesOf(text ?? '') } })
      await refresh('listCredentials')
      setText(null)
      toast.success(`Where ${one.name} may be sent is saved`)
    })
  return (
    <>
      <Heading>Meant for</Heading>
      {text === null ? (
        <>
          {one.places.length > 0 ? (
            <ul className="font-mono text-[12.5px]">
              {one.places.map((p) => (
                <li key={p} className="break-all">
                  {p}
                </li>
              ))}
            </ul>
          ) : (
            <span className="text-muted">
              {one.usedBy.length > 0 ? 'only where it goes already; ' : 'no place yet; '}an engineer cannot send it elsewhere
            </span>
          )}
          {mayEdit && (
            <div className="mt-2">
              <Button small onClick={() => setText(one.places.join(' '))}>
                Change places
              </Button>
            </div>
          )}
        </>
      ) : (
        <Form label="Places" onSubmit={save}>
          <PlacesField value={text} onChange={setText} error={placesError(fields)} />
          <div className="flex gap-2">
            <Button small kind="main" busy={busy} onClick={() => void save()}>
              Save places
            </Button>
            <Button small onClick={() => setText(null)}>
              Cancel
            </Button>
          </div>
        </Form>
      )}
    </>
  )
}

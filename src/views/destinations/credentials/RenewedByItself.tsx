import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import { dueAt } from '~/core/credential/make/due'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Heading } from '~/ui/Notes'
import { call, refresh } from '../../app/api'
import { useFields } from '../../shared/useFields'
import { whenWords } from './life'

/** So many days before the end, unless somebody says otherwise. */
const USUAL = 30

/** Whether a certificate that was signed here is renewed by itself, and when. */
export function RenewedByItself({ one, mayEdit }: { one: Credential; mayEdit: boolean }) {
  const [text, setText] = useState<string | null>(null)
  const { fields, busy, run } = useFields()
  const save = (days: number | null) =>
    run(async () => {
      await call('renewCredential', { params: { id: one.id }, body: { days } })
      await refresh('listCredentials')
      setText(null)
      toast.success(days === null ? `${one.name} is not renewed by itself any more` : `${one.name} is renewed ${days} days before its end`)
    })
  const days = Number(text ?? USUAL)
  const due = one.renewDays !== null && one.facts ? new Date(dueAt(one.facts, one.renewDays)).toISOString() : null
  return (
    <>
      <Heading>Renewed by itself</Heading>
      {text !== null ? (
        <Form label="Renewal" onSubmit={() => save(days)}>
          <TextField
            label="Before its end"
            unit="days"
            inputMode="numeric"
            autoFocus
            value={text}
            onChange={(e) => setText(e.target.value)}
            error={fields.days}
          />
          <div className="flex gap-2">
            <Button small kind="main" busy={busy} onClick={() => void save(text.trim() === '' ? Number.NaN : days)}>
              Save renewal
            </Button>
            <Button small onClick={() => setText(null)}>
              Cancel
            </Button>
          </div>
        </Form>
      ) : (
        <>
          <span className={due ? '' : 'text-muted'}>
            {due
              ? `${one.renewDays} days before its end, on ${due.slice(0, 10)} (${whenWords(due)})`
              : 'no: its authority is here and could sign its successor'}
          </span>
          {mayEdit && (
            <div className="mt-2 flex gap-2">
              <Button small onClick={() => setText(String(one.renewDays ?? USUAL))}>
                {due ? 'Change renewal' : 'Renew by itself'}
              </Button>
              {due && (
                <Button small busy={busy} onClick={() => void save(null)}>
                  Renew no more
                </Button>
              )}
            </div>
          )}
        </>
      )}
    </>
  )
}

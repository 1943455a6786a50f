import { type ReactNode, useState } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import type { CredentialDraft } from '~/contract/credential'
import { Button } from '~/ui/Button'
import { useMay } from '../app/caller'
import { AddCredential } from './AddCredential'

/**
 * Credentials are added where they are missing: a button after each of these fields, and a dialog that puts what was added into the field. The
 * dialog stands outside of the form, so that saving it does not send the form.
 */
export function useNewCredential(
  form: UseFormReturn<FieldValues>,
  fields: Readonly<Record<string, CredentialDraft['kind']>>,
): { after: Record<string, ReactNode>; dialog: ReactNode } {
  const mayAdd = useMay('administrator')
  const [field, setField] = useState<string | null>(null)
  const after = Object.fromEntries(
    Object.keys(fields).map((name) => [
      name,
      <div key={name} className="mb-1 pl-[142px]">
        <Button small disabled={!mayAdd} title={mayAdd ? '' : 'Needs the role administrator'} onClick={() => setField(name)}>
          {fields[name] === 'authority' ? 'Add an authority' : 'Add a certificate or log-in'}
        </Button>
      </div>,
    ]),
  )
  const dialog = field !== null && (
    <AddCredential
      first={fields[field]!}
      onClose={() => setField(null)}
      onSaved={(c) => {
        form.setValue(`settings.${field}`, c.id, { shouldValidate: true, shouldDirty: true })
        setField(null)
      }}
    />
  )
  return { after, dialog }
}

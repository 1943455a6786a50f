import { type ReactNode, useState } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import type { CredentialDraft } from '~/contract/credential'
import type { HandedOver } from '~/contract/intake'
import { Button } from '~/ui/Button'
import { useMay } from '../app/caller'
import { AddCredential } from './AddCredential'

const addWords: Record<CredentialDraft['kind'], string> = {
  authority: 'Add an authority',
  certificate: 'Add a certificate or log-in',
  password: 'Add a log-in',
  token: 'Add a key, certificate or log-in',
}

/**
 * Credentials are added where they are missing: a button after each of these fields, and a dialog that puts what was added into the field. The
 * dialog stands outside of the form, so that saving it does not send the form.
 */
export function useNewCredential(
  form: UseFormReturn<FieldValues>,
  fields: Readonly<Record<string, CredentialDraft['kind']>>,
  maker?: () => HandedOver['maker'],
): { after: Record<string, ReactNode>; dialog: ReactNode } {
  const mayAdd = useMay('administrator')
  const [field, setField] = useState<string | null>(null)
  const after = Object.fromEntries(
    Object.keys(fields).map((name) => [
      name,
      <div key={name} className="mb-1 pl-[142px]">
        <Button small disabled={!mayAdd} title={mayAdd ? '' : 'Needs the role administrator'} onClick={() => setField(name)}>
          {addWords[fields[name]!]}
        </Button>
      </div>,
    ]),
  )
  const dialog = field !== null && (
    <AddCredential
      first={fields[field]!}
      maker={maker?.()}
      onClose={() => setField(null)}
      onSaved={(c) => {
        form.setValue(`settings.${field}`, c.id, { shouldValidate: true, shouldDirty: true })
        setField(null)
      }}
    />
  )
  return { after, dialog }
}

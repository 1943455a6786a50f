import { PackageOpen } from 'lucide-react'
import { type ReactNode, useState } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import type { Credential } from '~/contract/credential'
import { Button } from '~/ui/Button'
import { useMay } from '../../app/caller'
import type { HandedAddress } from './addresses'
import { TakeIn } from './TakeIn'

interface Fills {
  /** What follows from an address, by the fields of the form. */
  filled?: ((address: HandedAddress) => object) | undefined
  /** Fields that hold a credential: which kinds each takes. */
  credentials: Readonly<Record<string, readonly Credential['kind'][]>>
}

/** Fills the form of a destination or a source from what somebody was handed: a button, and a sheet that stands outside of the form. */
export function useTakenIn(form: UseFormReturn<FieldValues>, view: Fills): { button: ReactNode; dialog: ReactNode; filled: boolean } {
  const mayKeep = useMay('administrator')
  const [open, setOpen] = useState(false)
  const [filled, setFilled] = useState(false)
  const fill = (kept: readonly Credential[], address: HandedAddress) => {
    const put = (field: string, value: unknown) => form.setValue(`settings.${field}`, value, { shouldValidate: true, shouldDirty: true })
    for (const [field, value] of Object.entries(view.filled?.(address) ?? {})) put(field, value)
    for (const [field, fits] of Object.entries(view.credentials)) {
      const one = fits.flatMap((fit) => kept.filter((c) => c.kind === fit))[0]
      // The witness has a log-in of its own, which is seldom in the same hand.
      if (one && !field.startsWith('witness')) put(field, one.id)
    }
    setFilled(true)
    setOpen(false)
  }
  return {
    filled,
    button: (
      <Button small disabled={!mayKeep} title={mayKeep ? '' : 'Needs the role administrator'} onClick={() => setOpen(true)}>
        <PackageOpen size={13} /> Take in what you were handed
      </Button>
    ),
    dialog: open && <TakeIn fills onClose={() => setOpen(false)} onKept={fill} />,
  }
}

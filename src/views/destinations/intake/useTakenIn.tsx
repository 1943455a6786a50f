import { PackageOpen } from 'lucide-react'
import { type ClipboardEvent, type ReactNode, useEffect, useState } from 'react'
import type { FieldValues, UseFormReturn } from 'react-hook-form'
import type { Credential } from '~/contract/credential'
import type { HandedOver } from '~/contract/intake'
import { Button } from '~/ui/Button'
import { useMay } from '../../app/caller'
import type { HandedAddress } from './addresses'
import { isHanded } from './handed-text'
import { TakeIn } from './TakeIn'
import type { Begun } from './useHanded'

/** What was kept beside an address. */
export interface Beside {
  kinds: ReadonlySet<Credential['kind']>
  /** A log-in by which events are read was among it. */
  eventsLogIn: boolean
}

interface Fills {
  /** What follows from an address and what was kept beside it, by the fields of the form. */
  filled?: ((address: HandedAddress, beside: Beside, now: never) => object) | undefined
  /** How tokens are made from a shared key, by what the form says. */
  maker?: ((settings: never) => HandedOver['maker']) | undefined
  /** Fields that hold a credential: which kinds each takes. */
  credentials: Readonly<Record<string, readonly Credential['kind'][]>>
}

interface TakenInto {
  button: ReactNode
  dialog: ReactNode
  /** Something was put into the form by it. */
  filled: boolean
  /** What is dropped or pasted onto the form. */
  hands: { onFiles: ((files: File[]) => void) | null; onPaste(e: ClipboardEvent): void }
}

/** How something may be called of which an address is known. */
function nameOf({ identity, host }: HandedAddress): string | null {
  if (host === null) return null
  return identity === null ? host : `${identity} at ${host}`
}

/** Fills the form of a destination or a source from what somebody was handed: a button, what is dropped or pasted onto the form, and a sheet that stands outside of it. */
export function useTakenIn(
  form: UseFormReturn<FieldValues>,
  view: Fills,
  /** What was begun in another form, and whether what is found belongs into another one, which takes it then. */
  o: { begun?: Begun | null; elsewhere?(address: HandedAddress, handed: Begun): void } = {},
): TakenInto {
  const mayKeep = useMay('administrator')
  const [begun, setBegun] = useState<Begun | null>(null)
  // After the form itself is there: of two that open at once the lower one would hide the upper one from who reads by ear.
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the form opens
  useEffect(() => setBegun(o.begun ?? null), [])
  const [filled, setFilled] = useState(false)
  const fill = (kept: readonly Credential[], address: HandedAddress, ofEvents: string | null) => {
    const put = (field: string, value: unknown) => form.setValue(`settings.${field}`, value, { shouldValidate: true, shouldDirty: true })
    const beside = { kinds: new Set(kept.map((c) => c.kind)), eventsLogIn: ofEvents !== null }
    for (const [field, value] of Object.entries(view.filled?.(address, beside, form.getValues('settings') as never) ?? {})) put(field, value)
    const name = nameOf(address)
    if (form.getValues('name') === '' && name !== null) form.setValue('name', name, { shouldValidate: true, shouldDirty: true })
    for (const [field, fits] of Object.entries(view.credentials)) {
      const one = fits.flatMap((fit) => kept.filter((c) => c.kind === fit && c.id !== ofEvents))[0]
      // The witness and a proxy have log-ins of their own, which are seldom in the same hand.
      if (one && !/^(?:witness|proxy)/.test(field)) put(field, one.id)
    }
    if (ofEvents !== null && 'witnessCredentialId' in view.credentials) put('witnessCredentialId', ofEvents)
    setFilled(true)
    setBegun(null)
  }
  const onPaste = (e: ClipboardEvent) => {
    const files = [...e.clipboardData.files]
    const text = e.clipboardData.getData('text/plain')
    if (!mayKeep || (files.length === 0 && !isHanded(text, e.target instanceof HTMLTextAreaElement))) return
    e.preventDefault()
    setBegun(files.length > 0 ? { files } : { text })
  }
  return {
    filled,
    hands: { onFiles: mayKeep ? (files) => setBegun({ files }) : null, onPaste },
    button: (
      <>
        <Button small disabled={!mayKeep} title={mayKeep ? '' : 'Needs the role administrator'} onClick={() => setBegun({})}>
          <PackageOpen size={13} /> Take in what you were handed
        </Button>
        {mayKeep && <p className="mt-1 text-xs text-muted">Or drop it anywhere on this form, or paste it.</p>}
      </>
    ),
    dialog: begun && (
      <TakeIn
        fills
        begun={begun}
        maker={view.maker?.(form.getValues('settings') as never)}
        onLooked={o.elsewhere}
        onClose={() => setBegun(null)}
        onKept={fill}
      />
    ),
  }
}

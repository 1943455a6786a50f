import type { ClipboardEvent, ComponentProps, ReactNode } from 'react'
import { Button } from '~/ui/Button'
import { useFileDrop } from '~/ui/DropArea'
import { CheckField, TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Modal } from '~/ui/Modal'
import { WarnNote } from '~/ui/Notes'
import { KeptNote } from './DraftNotes'
import { SettingsForm } from './SettingsForm'
import type { useKeptForm } from './useKeptForm'

interface Props extends Omit<ComponentProps<typeof SettingsForm>, 'path'> {
  /** What is set here, in a word: the name of the form. */
  what: 'Source' | 'Destination'
  title: string
  note: string
  /** A name as it could be. */
  example: string
  kept: Pick<ReturnType<typeof useKeptForm>, 'keptAt' | 'again'>
  saving: boolean
  /** It was filled from what somebody was handed. */
  filled: boolean
  /** Whether it is there already. */
  there: boolean
  warning?: ReactNode
  /** What stands before the name. */
  head?: ReactNode
  /** What stands in the foot before the buttons. */
  foot?: ReactNode
  /** Takes what somebody was handed, dropped or pasted anywhere on the form. */
  hands: { onFiles: ((files: File[]) => void) | null; onPaste(e: ClipboardEvent): void }
  onClose(): void
  onSave(): unknown
  /** On the right: the check, and what is to be known beside the form. */
  children: ReactNode
}

/** The sheet in which a source or a destination is added or changed: its settings on the left, what trying them found on the right. */
export function SettingsSheet({
  what,
  title,
  note,
  example,
  kept,
  saving,
  filled,
  there,
  warning,
  head,
  foot,
  hands,
  onClose,
  onSave,
  children,
  ...settings
}: Props) {
  const { over, target } = useFileDrop(hands.onFiles)
  const { register, formState } = settings.form
  return (
    <Modal
      open
      onClose={onClose}
      width={900}
      filled={filled}
      title={title}
      note={note}
      foot={
        <>
          {foot}
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={saving} onClick={() => void onSave()}>
            {there ? 'Save' : `Add ${what.toLowerCase()}`}
          </Button>
        </>
      }
    >
      <div
        {...target}
        onPaste={hands.onPaste}
        className={`grid grid-cols-[1fr_330px] gap-6 ${over ? 'outline-2 outline-offset-4 outline-slate outline-dashed' : ''}`}
      >
        <Form label={what} onSubmit={onSave}>
          {kept.keptAt !== null && <KeptNote at={kept.keptAt} onForget={kept.again} />}
          {head}
          <TextField
            label="Name"
            autoFocus
            placeholder={example}
            error={formState.errors.name?.message as string | undefined}
            {...register('name')}
          />
          <SettingsForm path="settings" {...settings} />
          <CheckField label="Switched on" {...register('enabled')} />
          {warning && (
            <div className="py-1 pl-[142px]">
              <WarnNote>{warning}</WarnNote>
            </div>
          )}
        </Form>
        <div>{children}</div>
      </div>
    </Modal>
  )
}

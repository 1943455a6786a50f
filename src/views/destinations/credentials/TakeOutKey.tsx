import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import type { KeyDownload } from '~/contract/key-download'
import { Button } from '~/ui/Button'
import { Choice, PasswordField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Modal } from '~/ui/Modal'
import { callFile } from '../../app/api'
import { fileNameOf, saveFile } from '../../shared/save-file'
import { useFields } from '../../shared/useFields'

const endings: Record<KeyDownload['form'], string> = { zip: 'zip', pkcs12: 'p12' }

/** Lets a certificate leave with its chain and its key, locked by a pass phrase, for somebody who types the own password again. */
export function TakeOutKey({ one, onClose }: { one: Credential; onClose(): void }) {
  const [v, setV] = useState<KeyDownload>({ form: 'zip', phrase: '', password: '' })
  const { fields, busy, run } = useFields()
  const set = (name: 'phrase' | 'password') => (e: { target: { value: string } }) => setV({ ...v, [name]: e.target.value })
  const takeOut = () =>
    run(async () => {
      const file = await callFile('takeOutKey', { params: { id: one.id }, body: v })
      saveFile(`${fileNameOf(one.name)}.${endings[v.form]}`, file)
      toast.success(`The key of ${one.name} is taken out, and the audit tells it`)
      onClose()
    })
  return (
    <Modal
      open
      onClose={onClose}
      title={`Take out the key of ${one.name}`}
      note="Whoever has the file and its pass phrase can log in as this one. The audit tells who took it out"
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} onClick={() => void takeOut()}>
            Take out key
          </Button>
        </>
      }
    >
      <Form label="Take out key" onSubmit={takeOut}>
        <div className="pb-2">
          <Choice
            label="As"
            value={v.form}
            options={[
              { value: 'zip', label: 'Zip of PEM files' },
              { value: 'pkcs12', label: 'Store (PKCS#12)' },
            ]}
            onChange={(form) => setV({ ...v, form })}
          />
        </div>
        <PasswordField
          label="Pass phrase"
          help="Locks the key; tell it to whoever gets the file on another way"
          value={v.phrase}
          onChange={set('phrase')}
          error={fields.phrase}
        />
        <PasswordField
          label="Your password"
          own
          help="Once more: that it is you"
          value={v.password}
          onChange={set('password')}
          error={fields.password}
        />
      </Form>
    </Modal>
  )
}

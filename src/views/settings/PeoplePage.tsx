import { useContext, useState } from 'react'
import { toast } from 'sonner'
import { Role } from '~/contract/role'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { SelectField, TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { Empty, Heading, Loading, ProblemNote } from '~/ui/Notes'
import { Age } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../app/api'
import { CallerContext, useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { tellFailure } from '../shared/problems'
import { useFields } from '../shared/useFields'

const DAY_MS = 86_400_000

/** When a key ends, in words. */
function endText(endsAt: number | null): string {
  if (endsAt === null) return 'without an end'
  const days = Math.floor((endsAt - serverNow()) / DAY_MS)
  return days < 0 ? 'has ended' : days === 0 ? 'ends today' : `${days} ${days === 1 ? 'day' : 'days'} left`
}

const roleWords: Record<Role, string> = {
  viewer: 'looks',
  operator: 'also starts, pauses, acknowledges',
  engineer: 'also edits',
  administrator: 'also people and credentials',
}

export function PeoplePage() {
  const ask = useAsk()
  const caller = useContext(CallerContext)
  const may = useMay('administrator')
  const people = useCall('listPeople', { enabled: may })
  const keys = useCall('listKeys', { enabled: may })
  const [adding, setAdding] = useState<'person' | 'key' | null>(null)
  const error = people.error ?? keys.error
  const remove = async (what: 'removePerson' | 'removeKey', id: string, name: string) => {
    const text = what === 'removePerson' ? 'Their sessions end, and their API keys go too.' : 'Scripts that use it are refused from now on.'
    if (!(await ask({ title: `Remove ${name}`, text, act: what === 'removePerson' ? 'Remove person' : 'Remove key' }))) return
    try {
      await call(what, { params: { id } })
      await refresh('listPeople', 'listKeys')
    } catch (e) {
      tellFailure(e)
    }
  }
  const resetSecondFactor = async (id: string, name: string) => {
    const question = {
      title: `Reset the second factor of ${name}`,
      text: 'The password alone lets them in then. Their sessions end.',
      act: 'Reset second factor',
    }
    if (!(await ask(question))) return
    try {
      await call('resetSecondFactor', { params: { id } })
      await refresh('listPeople')
    } catch (e) {
      tellFailure(e)
    }
  }
  const setRole = async (id: string, role: Role) => {
    try {
      await call('changePerson', { params: { id }, body: { role } })
    } catch (e) {
      tellFailure(e)
    }
    await refresh('listPeople')
  }
  return (
    <>
      <Row station={null} page="People and API keys">
        <Button disabled={!may} onClick={() => setAdding('key')}>
          New API key
        </Button>
        <Button kind="main" disabled={!may} onClick={() => setAdding('person')}>
          Add person
        </Button>
      </Row>
      <main className="min-h-0 flex-1 overflow-auto p-4">
        {!may ? (
          <Empty title="For administrators">People and API keys are shown to administrators.</Empty>
        ) : error ? (
          <ProblemNote problem={failureIn(error)} />
        ) : people.isPending || keys.isPending ? (
          <Loading />
        ) : (
          <div className="max-w-3xl">
            <Heading level={2}>People</Heading>
            <table className="w-full" aria-label="People">
              <tbody>
                {people.data?.map((p) => (
                  <tr key={p.id} className="h-[34px] border-b border-line">
                    <td className="font-semibold">{p.name}</td>
                    <td className="font-mono text-[12.5px] text-muted">{p.login}</td>
                    <td>
                      <select
                        aria-label={`Role of ${p.name}`}
                        value={p.role}
                        disabled={p.id === caller.id}
                        onChange={(e) => void setRole(p.id, e.target.value as Role)}
                        className="field"
                      >
                        {Role.options.map((r) => (
                          <option key={r}>{r}</option>
                        ))}
                      </select>
                      <span className="ml-2 text-muted">{roleWords[p.role]}</span>
                    </td>
                    <td>
                      {p.secondFactor && p.id !== caller.id ? (
                        <Button small kind="quiet" onClick={() => void resetSecondFactor(p.id, p.name)}>
                          Reset second factor
                        </Button>
                      ) : (
                        <span className="text-muted">{p.secondFactor ? 'with a second factor' : 'password only'}</span>
                      )}
                    </td>
                    <td className="text-right">
                      {p.id !== caller.id && (
                        <Button small kind="quiet" onClick={() => void remove('removePerson', p.id, p.name)}>
                          Remove person
                        </Button>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            <Heading level={2}>API keys</Heading>
            {keys.data?.length === 0 && <p className="text-muted">None yet. A key lets scripts do what its role may.</p>}
            <table className="w-full" aria-label="API keys">
              <tbody>
                {keys.data?.map((k) => (
                  <tr key={k.id} className="h-[34px] border-b border-line">
                    <td className="font-semibold">{k.name}</td>
                    <td className="font-mono text-[12.5px] text-muted">{k.prefix}...</td>
                    <td>{k.role}</td>
                    <td className="text-muted">{k.owner ? `of ${k.owner}` : 'of the installation'}</td>
                    <td className="text-muted">
                      {k.lastUsed ? (
                        <>
                          used <Age at={k.lastUsed} /> ago
                        </>
                      ) : (
                        'never used'
                      )}
                    </td>
                    <td className={k.endsAt !== null && k.endsAt - serverNow() < 30 * DAY_MS ? 'text-bad' : 'text-muted'}>{endText(k.endsAt)}</td>
                    <td className="text-right">
                      <Button small kind="quiet" onClick={() => void remove('removeKey', k.id, k.name)}>
                        Remove key
                      </Button>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </main>
      {adding && <Add what={adding} onClose={() => setAdding(null)} />}
    </>
  )
}

function Add({ what, onClose }: { what: 'person' | 'key'; onClose(): void }) {
  const [v, setV] = useState({ name: '', login: '', password: '', role: 'viewer' as Role, days: '365' })
  const { fields, busy, run } = useFields()
  const [key, setKey] = useState<string | null>(null)
  const set = (k: keyof typeof v) => (e: { target: { value: string } }) => setV({ ...v, [k]: e.target.value })
  const save = () =>
    run(async () => {
      if (what === 'person') {
        await call('addPerson', { body: v })
        await refresh('listPeople')
        onClose()
      } else {
        const made = await call('addKey', { body: { name: v.name, role: v.role, days: Number(v.days) } })
        await refresh('listKeys')
        setKey(made.key)
      }
    })
  return (
    <Modal
      open
      onClose={onClose}
      width={520}
      title={what === 'person' ? 'Add a person' : 'New API key'}
      foot={
        key ? (
          <Button kind="main" onClick={onClose}>
            Done
          </Button>
        ) : (
          <>
            <Button onClick={onClose}>Cancel</Button>
            <Button kind="main" busy={busy} onClick={() => void save()}>
              {what === 'person' ? 'Add person' : 'Make key'}
            </Button>
          </>
        )
      }
    >
      {key ? (
        <div>
          <p className="mb-2">This is the only time the key is shown:</p>
          <code className="block rounded-sm bg-well px-2 py-1.5 font-mono break-all select-all">{key}</code>
          <div className="mt-2">
            <Button small onClick={() => void navigator.clipboard.writeText(key).then(() => toast('Copied'))}>
              Copy
            </Button>
          </div>
        </div>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault()
            void save()
          }}
        >
          <TextField label="Name" autoFocus value={v.name} onChange={set('name')} error={fields.name} />
          {what === 'person' && <TextField label="Log-in" value={v.login} onChange={set('login')} error={fields.login} />}
          <SelectField label="Role" value={v.role} onChange={set('role')} error={fields.role} help={roleWords[v.role]}>
            {Role.options.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </SelectField>
          {what === 'key' && (
            <TextField
              label="Ends after"
              unit="days"
              mono
              inputMode="numeric"
              value={v.days}
              onChange={set('days')}
              error={fields.days}
              help="At most 730. It may never more than you may, and goes with you"
            />
          )}
          {what === 'person' && (
            <TextField
              label="Password"
              type="password"
              autoComplete="new-password"
              value={v.password}
              onChange={set('password')}
              error={fields.password}
              help="At least 10 characters, and no common one"
            />
          )}
          <button type="submit" className="hidden" aria-hidden="true" tabIndex={-1} />
        </form>
      )}
    </Modal>
  )
}

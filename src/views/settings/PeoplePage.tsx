import { useContext, useState } from 'react'
import { toast } from 'sonner'
import type { ApiKey, Person } from '~/contract/person'
import { type Role, roles } from '~/contract/role'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { PasswordField, SelectField, TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Modal } from '~/ui/Modal'
import { Heading, Loading } from '~/ui/Notes'
import { Age } from '~/ui/time'
import { useTextInAddress } from '../app/address'
import { call, refresh, useCall } from '../app/api'
import { CallerContext, useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { Failed } from '../shared/Failed'
import { ForRole } from '../shared/Onward'
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
  const may = useMay('administrator')
  const people = useCall('listPeople', { enabled: may })
  const keys = useCall('listKeys', { enabled: may })
  const [add, setAdd] = useTextInAddress('add')
  const adding = add === 'person' || add === 'key' ? add : null
  const error = people.error ?? keys.error
  return (
    <>
      <Row station={null} page="People and API keys">
        <Button disabled={!may} onClick={() => setAdd('key')}>
          New API key
        </Button>
        <Button kind="main" disabled={!may} onClick={() => setAdd('person')}>
          Add person
        </Button>
      </Row>
      <main className="min-h-0 flex-1 overflow-auto p-4">
        {!may ? (
          <ForRole needs="administrator">People and API keys are shown to administrators.</ForRole>
        ) : error ? (
          <Failed of={[people, keys]} flush />
        ) : !people.data || !keys.data ? (
          <Loading />
        ) : (
          <div className="max-w-3xl">
            <Heading level={2}>People</Heading>
            <PeopleList people={people.data} />
            <Heading level={2}>API keys</Heading>
            {keys.data.length === 0 && <p className="text-muted">None yet. A key lets scripts do what its role may.</p>}
            {keys.data.length > 0 && <KeyList keys={keys.data} />}
          </div>
        )}
      </main>
      {adding && <Add what={adding} onClose={() => setAdd(null)} />}
    </>
  )
}

/** Asks, then removes a person or a key. */
function useRemoving() {
  const ask = useAsk()
  return async (what: 'removePerson' | 'removeKey', id: string, name: string) => {
    const text = what === 'removePerson' ? 'Their sessions end, and their API keys go too.' : 'Scripts that use it are refused from now on.'
    if (!(await ask({ title: `Remove ${name}`, text, act: what === 'removePerson' ? 'Remove person' : 'Remove key' }))) return
    try {
      await call(what, { params: { id } })
      await refresh('listPeople', 'listKeys')
    } catch (e) {
      tellFailure(e)
    }
  }
}

function PeopleList({ people }: { people: readonly Person[] }) {
  const ask = useAsk()
  const caller = useContext(CallerContext)
  const remove = useRemoving()
  const resetSecondFactor = async ({ id, name }: Person) => {
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
  const setRole = async ({ id }: Person, role: Role) => {
    try {
      await call('changePerson', { params: { id }, body: { role } })
    } catch (e) {
      tellFailure(e)
    }
    await refresh('listPeople')
  }
  const columns: ListColumn<Person>[] = [
    { key: 'name', head: 'Name', strong: true, cell: (p) => p.name, tip: (p) => p.name },
    { key: 'login', head: 'Log-in', mono: true, muted: true, cell: (p) => p.login, tip: (p) => p.login },
    {
      key: 'role',
      head: 'Role',
      whole: true,
      cell: (p) => (
        <>
          <select
            aria-label={`Role of ${p.name}`}
            value={p.role}
            disabled={p.id === caller.id}
            onChange={(e) => void setRole(p, e.target.value as Role)}
            className="field"
          >
            {roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
          <span className="ml-2 text-muted">{roleWords[p.role]}</span>
        </>
      ),
    },
    {
      key: 'factor',
      head: 'Logs in',
      cell: (p) =>
        p.secondFactor && p.id !== caller.id ? (
          <Button small kind="quiet" onClick={() => void resetSecondFactor(p)}>
            Reset second factor
          </Button>
        ) : (
          <span className="text-muted">{p.secondFactor ? 'with a second factor' : 'password only'}</span>
        ),
    },
    {
      key: 'acts',
      head: 'What can be done',
      quiet: true,
      right: true,
      cell: (p) =>
        p.id !== caller.id && (
          <Button small kind="quiet" onClick={() => void remove('removePerson', p.id, p.name)}>
            Remove person
          </Button>
        ),
    },
  ]
  return <ListTable label="People" rows={people} columns={columns} rowKey={(p) => p.id} />
}

function KeyList({ keys }: { keys: readonly ApiKey[] }) {
  const remove = useRemoving()
  const columns: ListColumn<ApiKey>[] = [
    { key: 'name', head: 'Name', strong: true, cell: (k) => k.name, tip: (k) => k.name },
    { key: 'prefix', head: 'Begins with', mono: true, muted: true, cell: (k) => `${k.prefix}...` },
    { key: 'role', head: 'Role', cell: (k) => k.role },
    { key: 'owner', head: 'Of', muted: true, cell: (k) => k.owner ?? 'the installation' },
    {
      key: 'used',
      head: 'Last used',
      muted: true,
      cell: (k) =>
        k.lastUsed ? (
          <>
            <Age at={k.lastUsed} /> ago
          </>
        ) : (
          'never'
        ),
    },
    { key: 'ends', head: 'Ends', cell: (k) => endText(k.endsAt), look: (k) => (endsSoon(k) ? 'text-bad' : 'text-muted') },
    {
      key: 'acts',
      head: 'What can be done',
      quiet: true,
      right: true,
      cell: (k) => (
        <Button small kind="quiet" onClick={() => void remove('removeKey', k.id, k.name)}>
          Remove key
        </Button>
      ),
    },
  ]
  return <ListTable label="API keys" rows={keys} columns={columns} rowKey={(k) => k.id} />
}

const endsSoon = ({ endsAt }: ApiKey) => endsAt !== null && endsAt - serverNow() < 30 * DAY_MS

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
        <Form onSubmit={save}>
          <TextField label="Name" autoFocus value={v.name} onChange={set('name')} error={fields.name} />
          {what === 'person' && <TextField label="Log-in" value={v.login} onChange={set('login')} error={fields.login} />}
          <SelectField label="Role" value={v.role} onChange={set('role')} error={fields.role} help={roleWords[v.role]}>
            {roles.map((r) => (
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
            <PasswordField
              label="Password"
              value={v.password}
              onChange={set('password')}
              error={fields.password}
              help="At least 10 characters, and no common one"
            />
          )}
        </Form>
      )}
    </Modal>
  )
}

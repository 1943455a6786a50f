import { useState } from 'react'
import { toast } from 'sonner'
import type { OpenSession } from '~/contract/person'
import { Button } from '~/ui/Button'
import { PasswordField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Heading, Loading } from '~/ui/Notes'
import { Age, Time } from '~/ui/time'
import { call, refresh, useCall } from '../app/api'
import { Row } from '../app/Frame'
import { Failed } from '../shared/Failed'
import { tellFailure } from '../shared/problems'
import { useFields } from '../shared/useFields'
import { SecondFactor } from './SecondFactor'

export function AccountPage() {
  return (
    <>
      <Row station={null} page="Your account" />
      <main className="min-h-0 flex-1 overflow-auto p-4">
        <div className="max-w-2xl">
          <Password />
          <SecondFactor />
          <Sessions />
        </div>
      </main>
    </>
  )
}

const nothing = { current: '', next: '', again: '' }

function Password() {
  const [v, setV] = useState(nothing)
  const { fields, setFields, busy, run, typed } = useFields()
  const set = (k: keyof typeof v) => (e: { target: { value: string } }) => {
    setV({ ...v, [k]: e.target.value })
    typed(k)
  }
  const save = async () => {
    if (v.next !== v.again) return setFields({ again: 'The two are not the same' })
    await run(async () => {
      await call('changePassword', { body: { current: v.current, next: v.next } })
      await refresh('listSessions')
      setV(nothing)
      toast.success('Your password is changed; your other sessions have ended')
    })
  }
  return (
    <Form label="Password" onSubmit={save}>
      <Heading level={2}>Password</Heading>
      <PasswordField label="Current password" own value={v.current} onChange={set('current')} error={fields.current} />
      <PasswordField
        label="New password"
        value={v.next}
        onChange={set('next')}
        error={fields.next}
        help="At least 10 characters: several words that nobody would connect with you"
      />
      <PasswordField label="New password again" value={v.again} onChange={set('again')} error={fields.again} />
      <div className="pt-1 pl-[142px]">
        <Button kind="main" busy={busy} disabled={v.current === '' || v.next === ''} onClick={() => void save()}>
          Change password
        </Button>
      </div>
    </Form>
  )
}

function Sessions() {
  const sessions = useCall('listSessions', { refetchMs: 10_000 })
  const end = async (id: string) => {
    try {
      await call('endSession', { params: { id } })
      await refresh('listSessions')
    } catch (e) {
      tellFailure(e)
    }
  }
  const columns: ListColumn<OpenSession>[] = [
    { key: 'from', head: 'From', mono: true, cell: (s) => s.address ?? 'unknown' },
    { key: 'since', head: 'Since', cell: (s) => <Time at={s.createdAt} date /> },
    {
      key: 'used',
      head: 'Last used',
      cell: (s) => (
        <>
          <Age at={s.seenAt} /> ago
        </>
      ),
    },
    {
      key: 'acts',
      head: 'What can be done',
      quiet: true,
      right: true,
      cell: (s) =>
        s.own ? (
          <span className="text-muted">this one</span>
        ) : (
          <Button small onClick={() => void end(s.id)}>
            End session
          </Button>
        ),
    },
  ]
  return (
    <section className="pt-6">
      <Heading level={2}>Where you are logged in</Heading>
      {sessions.isPending ? (
        <Loading rows={2} />
      ) : sessions.error ? (
        <Failed of={sessions} flush />
      ) : (
        <ListTable label="Sessions" rows={sessions.data} columns={columns} rowKey={(s) => s.id} />
      )}
    </section>
  )
}

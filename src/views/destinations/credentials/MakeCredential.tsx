import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import { type CertificateUse, KeyKind } from '~/contract/make'
import { Button } from '~/ui/Button'
import { Choice, SelectField, TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Modal } from '~/ui/Modal'
import { call, refresh, useCall } from '../../app/api'
import { useFields } from '../../shared/useFields'

const kinds = [
  { value: 'certificate', label: 'Certificate' },
  { value: 'request', label: 'Signing request' },
  { value: 'authority', label: 'Authority of the plant' },
] as const
type Kind = (typeof kinds)[number]['value']

const notes: Record<Kind, string> = {
  certificate: 'With its key, signed by an authority that was made here',
  request: "For somebody else's authority; its key stays here until the answer comes",
  authority: 'It signs certificates for clients and servers; whoever is to accept those has to trust it',
}
const uses: { value: CertificateUse; label: string }[] = [
  { value: 'client', label: 'A client' },
  { value: 'server', label: 'A server' },
  { value: 'both', label: 'Both' },
]
const DAYS: Record<Kind, string> = { certificate: '397', request: '', authority: '3650' }

/** Hosts as typed, apart. */
const hostsOf = (text: string): string[] => text.split(/[\s,;]+/).filter(Boolean)

/** Makes an authority, a certificate that it signs, or a signing request. */
export function MakeCredential({ onClose, onMade }: { onClose(): void; onMade(c: Credential): void }) {
  const authorities = (useCall('listCredentials').data ?? []).filter((c) => c.issues)
  const [kind, setKind] = useState<Kind>(authorities.length > 0 ? 'certificate' : 'authority')
  const [v, setV] = useState({ name: '', commonName: '', organization: '', hosts: '', days: '', authorityId: '' })
  const [key, setKey] = useState<KeyKind>('P-256')
  const [use, setUse] = useState<CertificateUse>('client')
  const { fields, busy, run } = useFields()
  const set = (name: keyof typeof v) => (e: { target: { value: string } }) => setV({ ...v, [name]: e.target.value })
  const authorityId = v.authorityId || (authorities[0]?.id ?? '')
  const days = Number(v.days === '' ? DAYS[kind] : v.days)
  const hostsError = Object.entries(fields).find(([field]) => field.startsWith('hosts'))?.[1]
  const make = () =>
    run(async () => {
      const { name, organization } = v
      const subject = { name, commonName: v.commonName || name, organization, key }
      const leaf = { ...subject, use, hosts: use === 'client' ? [] : hostsOf(v.hosts) }
      const made =
        kind === 'authority'
          ? await call('makeAuthority', { body: { ...subject, days } })
          : kind === 'request'
            ? await call('makeRequest', { body: leaf })
            : await call('issueCertificate', { body: { ...leaf, authorityId, days } })
      await refresh('listCredentials', 'listEndings', 'listIssued')
      toast.success(`${made.name} is made`)
      onMade(made)
    })
  const impossible = kind === 'certificate' && authorities.length === 0
  return (
    <Modal
      open
      onClose={onClose}
      title="Make"
      note={notes[kind]}
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={impossible} onClick={() => void make()}>
            {kind === 'authority' ? 'Make authority' : kind === 'request' ? 'Make signing request' : 'Make certificate'}
          </Button>
        </>
      }
    >
      <Form label="Make" onSubmit={make}>
        <div className="pb-2">
          <Choice label="What" value={kind} options={kinds} onChange={setKind} />
        </div>
        {impossible ? (
          <p className="text-muted">No authority here can sign yet: make one first, or a signing request for somebody else's.</p>
        ) : (
          <>
            <TextField label="Name" autoFocus value={v.name} onChange={set('name')} error={fields.name} help="How it is called here" />
            <TextField
              label="Common name"
              value={v.commonName}
              placeholder={v.name}
              onChange={set('commonName')}
              error={fields.commonName}
              help="As whom it stands in the certificate; brokers often take it for the user"
            />
            <TextField label="Organization" value={v.organization} onChange={set('organization')} error={fields.organization} />
            {kind === 'certificate' && (
              <SelectField label="Signed by" value={authorityId} onChange={set('authorityId')} error={fields.authorityId}>
                {authorities.map((a) => (
                  <option key={a.id} value={a.id}>
                    {a.name}
                  </option>
                ))}
              </SelectField>
            )}
            {kind !== 'authority' && (
              <SelectField label="For" value={use} onChange={(e) => setUse(e.target.value as CertificateUse)}>
                {uses.map((u) => (
                  <option key={u.value} value={u.value}>
                    {u.label}
                  </option>
                ))}
              </SelectField>
            )}
            {kind !== 'authority' && use !== 'client' && (
              <TextField
                label="Hosts"
                mono
                value={v.hosts}
                onChange={set('hosts')}
                error={hostsError}
                help="Names and addresses under which it is reached: broker.example, *.hall.example, 10.0.0.7"
              />
            )}
            <SelectField
              label="Key"
              value={key}
              onChange={(e) => setKey(e.target.value as KeyKind)}
              help="Elliptic curves are quicker; RSA is for peers that know no other"
            >
              {KeyKind.options.map((k) => (
                <option key={k} value={k}>
                  {k}
                </option>
              ))}
            </SelectField>
            {kind !== 'request' && (
              <TextField
                key={kind}
                label="Good for"
                unit="days"
                inputMode="numeric"
                value={v.days}
                placeholder={DAYS[kind]}
                onChange={set('days')}
                error={fields.days}
              />
            )}
          </>
        )}
      </Form>
    </Modal>
  )
}

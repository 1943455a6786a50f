import { PackageOpen, Plus } from 'lucide-react'
import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import { daysLeft, ENDS_SOON_DAYS } from '~/core/credential/validity'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Fact, Heading, Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { useAdding, useTextInAddress } from '../app/address'
import { call, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { Failed } from '../shared/Failed'
import { EmptyStation, ForRole } from '../shared/Onward'
import { tellFailure } from '../shared/problems'
import { AddCredential } from './AddCredential'
import { CredentialPlaces } from './CredentialPlaces'
import { TakeIn } from './intake/TakeIn'

const kinds: Record<Credential['kind'], string> = {
  certificate: 'certificate and key',
  authority: 'authority',
  password: 'log-in',
  application: 'own certificate for OPC UA',
}

function lifeGlyph(c: Credential): GlyphState {
  if (!c.facts) return 'idle'
  const days = daysLeft(c.facts, serverNow())
  return days < 0 ? 'bad' : days < ENDS_SOON_DAYS ? 'uncertain' : 'good'
}

const columns: ListColumn<Credential>[] = [
  { key: 'glyph', head: 'State', quiet: true, width: '36px', cell: (c) => <Glyph state={lifeGlyph(c)} /> },
  { key: 'name', head: 'Name', strong: true, cell: (c) => c.name, tip: (c) => c.name },
  { key: 'kind', head: 'Kind', muted: true, cell: (c) => kinds[c.kind] },
  { key: 'days', head: 'Days left', right: true, mono: true, cell: (c) => (c.facts ? daysLeft(c.facts, serverNow()) : '-') },
  { key: 'used', head: 'Used by', muted: true, cell: (c) => c.usedBy.join(', '), tip: (c) => c.usedBy.join(', ') },
]

export function CredentialsPage() {
  const mayLook = useMay('engineer')
  const mayEdit = useMay('administrator')
  const credentials = useCall('listCredentials', { enabled: mayLook })
  const [chosen, setChosen] = useTextInAddress('id')
  const [adding, setAdding] = useAdding()
  const list = credentials.data ?? []
  const one = list.find((c) => c.id === chosen) ?? list[0]
  const [taking, setTaking] = useState(false)
  const title = mayEdit ? '' : 'Needs the role administrator'
  const add = (
    <>
      <Button disabled={!mayEdit} title={title} onClick={() => setAdding(true)}>
        <Plus size={14} /> Add credential
      </Button>
      <Button kind="main" disabled={!mayEdit} title={title} onClick={() => setTaking(true)}>
        <PackageOpen size={14} /> Take in
      </Button>
    </>
  )
  return (
    <>
      <Row station="destinations" page="Credentials">
        {add}
      </Row>
      <ThreeParts id="credentials" peekWidth={350} peek={one && <CredentialPeek one={one} mayEdit={mayEdit} />}>
        {!mayLook ? (
          <ForRole needs="engineer">Which credentials there are is shown to engineers and administrators.</ForRole>
        ) : credentials.isPending ? (
          <Loading />
        ) : credentials.error ? (
          <Failed of={credentials} />
        ) : list.length === 0 ? (
          <EmptyStation needs="administrator" title="No credentials yet" action={<div className="flex gap-2">{add}</div>}>
            Certificates with their keys, the authorities you trust, and log-ins. Take in what you were handed, as it is: a zip, a letter, files with
            any names.
          </EmptyStation>
        ) : (
          <ListTable label="Credentials" rows={list} columns={columns} rowKey={(c) => c.id} chosen={one?.id} onChoose={setChosen} />
        )}
      </ThreeParts>
      {taking && (
        <TakeIn
          fills={false}
          onClose={() => setTaking(false)}
          onKept={([first]) => {
            if (first) setChosen(first.id)
            setTaking(false)
          }}
        />
      )}
      {adding && (
        <AddCredential
          onClose={() => setAdding(false)}
          onSaved={(c) => {
            setChosen(c.id)
            setAdding(false)
          }}
        />
      )}
    </>
  )
}

function CredentialPeek({ one, mayEdit }: { one: Credential; mayEdit: boolean }) {
  const ask = useAsk()
  const remove = async (c: Credential) => {
    if (!(await ask({ title: `Remove ${c.name}`, text: 'Its key cannot be brought back.', act: 'Remove credential' }))) return
    try {
      await call('removeCredential', { params: { id: c.id } })
      await refresh('listCredentials')
    } catch (e) {
      tellFailure(e)
    }
  }
  return (
    <>
      <h2 className="text-[15px] font-semibold">{one.name}</h2>
      <div className="mb-2 text-muted">{kinds[one.kind]}; what is secret is kept encrypted and never shown</div>
      {one.facts ? (
        <>
          <Fact name="Subject">{one.facts.subject}</Fact>
          <Fact name="Issuer">{one.facts.issuer}</Fact>
          <Fact name="Valid from">{one.facts.notBefore.slice(0, 10)}</Fact>
          <Fact name="Valid to">{`${one.facts.notAfter.slice(0, 10)}, ${daysLeft(one.facts, serverNow())} days left`}</Fact>
          <Fact name="Key">{one.facts.key}</Fact>
          {one.facts.names.length > 0 && <Fact name="Names">{one.facts.names.join(', ')}</Fact>}
          <Fact name="Thumbprint">{one.facts.sha1}</Fact>
          <Fact name="SHA-256">{one.facts.sha256}</Fact>
        </>
      ) : (
        <Fact name="User">{one.user}</Fact>
      )}
      {one.kind === 'password' && <CredentialPlaces key={one.id} one={one} mayEdit={mayEdit} />}
      <Heading>Used by</Heading>
      {one.usedBy.length > 0 ? one.usedBy.join(', ') : <span className="text-muted">nothing</span>}
      <div className="mt-4 flex gap-2">
        {one.certificate && (
          <Button onClick={() => void navigator.clipboard.writeText(one.certificate!).then(() => toast('The certificate (not its key) is copied'))}>
            Copy certificate
          </Button>
        )}
        {one.usedBy.length === 0 && (
          <Button kind="danger" disabled={!mayEdit} onClick={() => void remove(one)}>
            Remove
          </Button>
        )}
      </div>
    </>
  )
}

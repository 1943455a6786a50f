import { Plus } from 'lucide-react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import { daysLeft } from '~/core/credential/validity'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { Empty, Fact, Heading, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { useAdding, useTextInAddress } from '../app/address'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { tellFailure } from '../shared/problems'
import { AddCredential } from './AddCredential'
import { CredentialPlaces } from './CredentialPlaces'

const kinds: Record<Credential['kind'], string> = {
  certificate: 'certificate and key',
  authority: 'authority',
  password: 'log-in',
  application: 'own certificate for OPC UA',
}

function lifeGlyph(c: Credential): GlyphState {
  if (!c.facts) return 'idle'
  const days = daysLeft(c.facts, serverNow())
  return days < 0 ? 'bad' : days < 30 ? 'uncertain' : 'good'
}

export function CredentialsPage() {
  const mayLook = useMay('engineer')
  const mayEdit = useMay('administrator')
  const credentials = useCall('listCredentials', { enabled: mayLook })
  const [chosen, setChosen] = useTextInAddress('id')
  const ask = useAsk()
  const [adding, setAdding] = useAdding()
  const list = credentials.data ?? []
  const one = list.find((c) => c.id === chosen) ?? list[0]
  const add = (
    <Button kind="main" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role administrator'} onClick={() => setAdding(true)}>
      <Plus size={14} /> Add credential
    </Button>
  )
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
      <Row station="destinations" page="Credentials">
        {add}
      </Row>
      <ThreeParts
        id="credentials"
        peekWidth={350}
        peek={
          one && (
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
                  <Button
                    onClick={() => void navigator.clipboard.writeText(one.certificate!).then(() => toast('The certificate (not its key) is copied'))}
                  >
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
      >
        {!mayLook ? (
          <Empty title="For engineers">Which credentials there are is shown to engineers and administrators.</Empty>
        ) : credentials.isPending ? (
          <Loading />
        ) : credentials.error ? (
          <div className="p-4">
            <ProblemNote problem={failureIn(credentials.error)} />
          </div>
        ) : list.length === 0 ? (
          <Empty title="No credentials yet" action={add}>
            Certificates with their keys, the authorities you trust, and log-ins for brokers.
          </Empty>
        ) : (
          <table className="w-full" aria-label="Credentials">
            <thead>
              <tr className="border-b border-line text-left text-xs text-muted">
                <th className="w-8">
                  <span className="sr-only">State</span>
                </th>
                <th className="px-2 py-1.5 font-semibold">Name</th>
                <th className="px-2 font-semibold">Kind</th>
                <th className="px-2 text-right font-semibold">Days left</th>
                <th className="px-3 font-semibold">Used by</th>
              </tr>
            </thead>
            <tbody>
              {list.map((c) => (
                <tr
                  key={c.id}
                  onClick={() => setChosen(c.id)}
                  aria-selected={c.id === one?.id}
                  className={`h-[30px] cursor-default border-b border-line/70 ${c.id === one?.id ? 'bg-wash' : 'hover:bg-well/50'}`}
                >
                  <td className="pl-3">
                    <Glyph state={lifeGlyph(c)} />
                  </td>
                  <td className="px-2 font-semibold">{c.name}</td>
                  <td className="px-2 text-muted">{kinds[c.kind]}</td>
                  <td className="px-2 text-right font-mono text-[12.5px]">{c.facts ? daysLeft(c.facts, serverNow()) : '-'}</td>
                  <td className="max-w-56 truncate px-3 text-muted">{c.usedBy.join(', ')}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </ThreeParts>
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

import { FileKey2, PackageOpen, Plus } from 'lucide-react'
import { useState } from 'react'
import type { Credential } from '~/contract/credential'
import { daysLeft } from '~/core/credential/validity'
import { Button } from '~/ui/Button'
import { serverNow } from '~/ui/clock'
import { Choice } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { useAdding, useParam, useTextInAddress } from '../app/address'
import { useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { useWatch } from '../app/live/live'
import { Failed } from '../shared/Failed'
import { EmptyStation, ForRole } from '../shared/Onward'
import { AddCredential } from './AddCredential'
import { CredentialPeek } from './credentials/CredentialPeek'
import { kindWords, lifeOf } from './credentials/life'
import { MakeCredential } from './credentials/MakeCredential'
import { TimeLine } from './credentials/TimeLine'
import { TakeIn } from './intake/TakeIn'

const usedBy = (c: Credential): string => c.usedBy.map((use) => use.name).join(', ')

const columns: ListColumn<Credential>[] = [
  { key: 'glyph', head: 'State', quiet: true, width: '36px', cell: (c) => <Glyph state={lifeOf(c.endsAt)} /> },
  { key: 'name', head: 'Name', strong: true, cell: (c) => c.name, tip: (c) => c.name },
  { key: 'kind', head: 'Kind', muted: true, cell: (c) => kindWords[c.kind] },
  { key: 'days', head: 'Days left', right: true, mono: true, cell: (c) => (c.endsAt ? daysLeft({ notAfter: c.endsAt }, serverNow()) : '-') },
  { key: 'used', head: 'Used by', muted: true, cell: usedBy, tip: usedBy },
]

export function CredentialsPage() {
  const mayLook = useMay('engineer')
  const mayEdit = useMay('administrator')
  const credentials = useCall('listCredentials', { enabled: mayLook })
  const [chosen, setChosen] = useTextInAddress('id')
  const [adding, setAdding] = useAdding()
  const list = credentials.data ?? []
  const [taking, setTaking] = useState(false)
  const [making, setMaking] = useState(false)
  const [view, setView] = useParam('view')
  const ends = view === 'ends'
  const soonest = useCall('listEndings', { enabled: mayLook && ends }).data?.find((e) => e.credentialId !== null)?.credentialId
  const one = list.find((c) => c.id === chosen) ?? (ends ? list.find((c) => c.id === soonest) : undefined) ?? list[0]
  useWatch({ parts: ['destinations', 'sources'] })
  const title = mayEdit ? '' : 'Needs the role administrator'
  const add = (
    <>
      <Button disabled={!mayEdit} title={title} onClick={() => setAdding(true)}>
        <Plus size={14} /> Add credential
      </Button>
      <Button disabled={!mayEdit} title={title} onClick={() => setMaking(true)}>
        <FileKey2 size={14} /> Make
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
        {mayLook && list.length > 0 && (
          <div className="shrink-0 border-b border-line px-3 py-1.5">
            <Choice
              label="Shown"
              value={ends ? 'ends' : 'list'}
              options={[
                { value: 'list', label: 'All credentials' },
                { value: 'ends', label: 'What ends when' },
              ]}
              onChange={(next) => setView(next === 'ends' ? 'ends' : null, 'push')}
            />
          </div>
        )}
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
        ) : ends ? (
          <div className="min-h-0 flex-1 overflow-auto">
            <TimeLine chosen={one?.id ?? null} onChoose={setChosen} />
          </div>
        ) : (
          <div className="min-h-0 flex-1 overflow-auto">
            <ListTable label="Credentials" rows={list} columns={columns} rowKey={(c) => c.id} chosen={one?.id} onChoose={setChosen} />
          </div>
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
      {making && (
        <MakeCredential
          onClose={() => setMaking(false)}
          onMade={(c) => {
            setChosen(c.id)
            setMaking(false)
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

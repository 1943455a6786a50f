import { Plus } from 'lucide-react'
import { useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { ClassInput, EquipmentClass } from '~/contract/equipment'
import { Button } from '~/ui/Button'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { useTextInAddress } from '../../app/address'
import { call, failureIn, refresh, useCall } from '../../app/api'
import { useMay } from '../../app/caller'
import { Row } from '../../app/Frame'
import { tellFailure } from '../../shared/problems'
import { ClassForm } from './ClassForm'
import { ClassPeek } from './ClassPeek'
import { SchemaImport } from './SchemaImport'

export function ClassesPage() {
  const classes = useCall('listClasses')
  const mayEdit = useMay('engineer')
  const [chosenId, setChosen] = useTextInAddress('id', 'push')
  const [importing, setImporting] = useState(false)
  const [draft, setDraft] = useState<ClassInput | null>(null)
  const list = classes.data ?? []
  const chosen = chosenId === 'new' ? null : (list.find((c) => c.id === chosenId) ?? list[0] ?? null)
  const byId = useMemo(() => new Map((classes.data ?? []).map((c) => [c.id, c])), [classes.data])
  const choose = (id: string) => {
    setChosen(id)
    setDraft(null)
  }
  const add = (
    <Button kind="main" disabled={!mayEdit} onClick={() => choose('new')}>
      <Plus size={14} /> New class
    </Button>
  )
  const remove = async (c: EquipmentClass) => {
    const { id: _i, version: _v, equipmentCount: _n, ...body } = c
    try {
      await call('removeClass', { params: { id: c.id } })
      await refresh('listClasses')
      toast(`${c.name} removed`, {
        action: { label: 'Undo', onClick: () => void call('addClass', { body }).then(() => refresh('listClasses'), tellFailure) },
      })
    } catch (e) {
      tellFailure(e)
    }
  }
  return (
    <>
      <Row station="equipment" page="Classes">
        {chosen && (
          <Button
            disabled={!mayEdit || chosen.equipmentCount > 0}
            title={chosen.equipmentCount > 0 ? 'Equipment of this class exists' : ''}
            onClick={() => void remove(chosen)}
          >
            Remove
          </Button>
        )}
        <Button disabled={!mayEdit} onClick={() => setImporting(true)}>
          Import
        </Button>
        {add}
      </Row>
      <ThreeParts
        id="classes"
        peekWidth={320}
        left={
          list.length > 0 && (
            <ul aria-label="Classes">
              {list.map((c) => (
                <li key={c.id}>
                  <button
                    type="button"
                    onClick={() => choose(c.id)}
                    aria-pressed={c.id === chosen?.id}
                    className={`flex h-[26px] w-full items-center justify-between border-l-2 px-3 text-left ${c.id === chosen?.id ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'}`}
                  >
                    <span className="truncate">{c.name}</span>
                    <span className="font-mono text-[12px] text-muted" title={`${c.equipmentCount} equipment`}>
                      {c.equipmentCount}
                    </span>
                  </button>
                </li>
              ))}
            </ul>
          )
        }
        peek={(chosen || draft) && <ClassPeek cls={chosen} draft={draft} classes={byId} />}
      >
        {classes.isPending ? (
          <Loading />
        ) : classes.error ? (
          <div className="p-4">
            <ProblemNote problem={failureIn(classes.error)} />
          </div>
        ) : list.length === 0 && chosenId !== 'new' ? (
          <Empty title="No class yet" action={add}>
            A class says once what a kind of equipment looks like: its members, their types and units.
          </Empty>
        ) : (
          <ClassForm key={chosen?.id ?? 'new'} cls={chosen} classes={byId} mayEdit={mayEdit} onDraft={setDraft} onSaved={(c) => choose(c.id)} />
        )}
      </ThreeParts>
      {importing && (
        <SchemaImport
          onClose={() => setImporting(false)}
          onMade={(id) => {
            choose(id)
            setImporting(false)
          }}
        />
      )}
    </>
  )
}

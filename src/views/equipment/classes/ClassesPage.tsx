import { Plus } from 'lucide-react'
import { useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { ClassInput, EquipmentClass } from '~/contract/equipment'
import { Button } from '~/ui/Button'
import { Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { PickFigure, PickRow } from '~/ui/PickRow'
import { useTextInAddress } from '../../app/address'
import { call, refresh, useCall } from '../../app/api'
import { useMay } from '../../app/caller'
import { Row } from '../../app/Frame'
import { Failed } from '../../shared/Failed'
import { EmptyStation } from '../../shared/Onward'
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
          classes.isPending ? (
            <Loading rows={8} />
          ) : list.length === 0 ? null : (
            <ul aria-label="Classes">
              {list.map((c) => (
                <PickRow key={c.id} picked={c.id === chosen?.id} onPick={() => choose(c.id)}>
                  <span className="truncate">{c.name}</span>
                  <PickFigure title={`${c.equipmentCount} equipment`}>{c.equipmentCount}</PickFigure>
                </PickRow>
              ))}
            </ul>
          )
        }
        peek={classes.isPending ? <Loading rows={8} /> : (chosen || draft) && <ClassPeek cls={chosen} draft={draft} classes={byId} />}
      >
        {classes.isPending ? (
          <Loading />
        ) : classes.error ? (
          <Failed of={classes} />
        ) : list.length === 0 && chosenId !== 'new' ? (
          <EmptyStation needs="engineer" title="No class yet" action={add}>
            A class says once what a kind of equipment looks like: its members, their types and units.
          </EmptyStation>
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

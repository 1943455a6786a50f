import { useState } from 'react'
import { toast } from 'sonner'
import type { Source } from '~/contract/source'
import type { Tag, TagChange } from '~/contract/tag'
import { showAddress } from '~/core/source/address'
import { displayValue } from '~/core/value/datatype'
import { qualityText } from '~/core/value/quality'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { Fact, Heading } from '~/ui/Notes'
import { Sparkline } from '~/ui/Sparkline'
import { ageText, Time, useNow } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useLiveValue, useSpark, useWatch } from '../app/live'
import { Note } from './Note'
import { valueGlyph } from './quality'
import { MadeUp, Simulation } from './Simulation'
import { WriteValue } from './WriteValue'

/** One tag as it is now, how it is read, and what uses it. */
export function TagPeek({ tag, source, mayEdit }: { tag: Tag; source: Source | undefined; mayEdit: boolean }) {
  useWatch({ tags: [tag.handle], sparks: true })
  const v = useLiveValue(tag.handle)
  const points = useSpark(tag.handle)
  const use = useCall('tagUse', { params: { id: tag.id } })
  const now = useNow()
  const [editing, setEditing] = useState(false)
  const bad = v !== undefined && v[2] >>> 30 === 2
  return (
    <>
      <div className="flex items-start gap-2">
        <span className="pt-0.5">
          <Glyph state={valueGlyph(v)} />
        </span>
        <h2 className="min-w-0 flex-1 text-[15px] leading-5 font-semibold break-words">{tag.name}</h2>
        <Button small disabled={!mayEdit} title={mayEdit ? 'Name, unit, deadband' : 'Needs the role engineer'} onClick={() => setEditing(!editing)}>
          {editing ? 'Close' : 'Edit'}
        </Button>
      </div>
      <div className="text-muted">
        {source?.name} {tag.description && `· ${tag.description}`}
      </div>
      <div className="mt-2 flex items-baseline gap-2">
        <span className={`font-mono text-[23px] leading-8 font-semibold ${bad ? 'text-bad' : ''}`}>
          {v ? displayValue(v[1], tag.dataType === 'number') : '-'}
        </span>
        <span className="text-muted">{tag.unit}</span>
        <span className="ml-auto">
          <MadeUp tag={tag} />
        </span>
      </div>
      <div className={bad ? 'text-bad' : 'text-muted'}>{v ? qualityText(v[2]) : 'no value yet'}</div>
      <Note tag={tag} status={v?.[2]} />
      <div className="my-2 rounded-sm border border-line bg-paper p-2">
        <Sparkline points={points ?? []} width={264} height={88} className={bad ? 'text-bad' : 'text-slate'} />
        <div className="flex justify-between font-mono text-[11px] text-muted">
          <span>10 min ago</span>
          <span>now</span>
        </div>
      </div>
      {editing && <TagForm tag={tag} onDone={() => setEditing(false)} />}
      <Heading>How it becomes a value</Heading>
      <Fact name="Address">{showAddress(source, tag.address)}</Fact>
      {source?.kind === 'modbus' && (
        <a className="text-slate underline" href={`/sources/registers?tag=${tag.id}`}>
          Look at its registers
        </a>
      )}
      <Fact name="Data type">{tag.dataType}</Fact>
      <Fact name="Device time">{v?.[3] ? <Time at={v[3]} date /> : '-'}</Fact>
      <Fact name="Received">{v?.[4] ? `${ageText(now - v[4])} ago` : '-'}</Fact>
      <Fact name="Deadband">
        {tag.deadband && tag.deadband.size > 0
          ? tag.deadband.kind === 'absolute'
            ? `${tag.deadband.size} ${tag.unit}`
            : `${tag.deadband.size} % of range`
          : 'none: every change'}
      </Fact>
      {tag.range && (
        <Fact name="Expected">
          {tag.range.low} to {tag.range.high} {tag.unit}
        </Fact>
      )}
      <WriteValue tag={tag} />
      <Simulation tag={tag} mayEdit={mayEdit} />
      <Heading>Where it is used</Heading>
      {use.data && use.data.equipment.length + use.data.publications.length === 0 && <p className="text-muted">Nowhere yet.</p>}
      {use.data?.equipment.map((e) => (
        <Fact
          key={`${e.id}${e.member}`}
          mono={false}
          name={<a className="text-slate hover:underline" href={`/equipment?id=${e.id}`}>{`${e.name} · ${e.member}`}</a>}
        >
          <span className="text-xs text-muted">equipment</span>
        </Fact>
      ))}
      {use.data?.publications.map((p) => (
        <Fact
          key={p.id}
          mono={false}
          name={
            <a className="text-slate hover:underline" href={`/publications?id=${p.id}`}>
              {p.name}
            </a>
          }
        >
          <span className="text-xs text-muted">publication</span>
        </Fact>
      ))}
    </>
  )
}

function TagForm({ tag, onDone }: { tag: Tag; onDone(): void }) {
  const [name, setName] = useState(tag.name)
  const [unit, setUnit] = useState(tag.unit)
  const [deadband, setDeadband] = useState(tag.deadband ? String(tag.deadband.size) : '')
  const [fields, setFields] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState(false)
  const size = deadband.trim() === '' ? 0 : Number(deadband)
  const wrong = Number.isNaN(size) || size < 0 ? 'A number, not below 0' : undefined

  const apply = async (change: TagChange) => {
    const saved = await call('changeTag', { params: { id: tag.id }, body: change })
    await refresh('listTags', 'tagUse')
    return saved
  }
  const save = async () => {
    if (wrong) return
    setBusy(true)
    setFields({})
    const before: TagChange = { name: tag.name, unit: tag.unit, deadband: tag.deadband }
    try {
      await apply({ name, unit, deadband: size === 0 ? null : { ...(tag.deadband ?? { kind: 'absolute' as const }), size }, version: tag.version })
      onDone()
      toast(`${name} is saved`, {
        action: { label: 'Undo', onClick: () => void apply(before).catch((e: unknown) => toast.error(failureIn(e).message)) },
      })
    } catch (e) {
      const f = failureIn(e)
      setFields(f.fields ?? { name: f.message })
    } finally {
      setBusy(false)
    }
  }
  return (
    <form
      className="my-2 border-y border-line py-1 [&_.grid]:grid-cols-[76px_1fr]"
      onSubmit={(e) => {
        e.preventDefault()
        void save()
      }}
    >
      <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={fields.name} help="References hold: nothing breaks" />
      <TextField label="Unit" value={unit} onChange={(e) => setUnit(e.target.value)} error={fields.unit} />
      <TextField
        label="Deadband"
        value={deadband}
        onChange={(e) => setDeadband(e.target.value)}
        error={wrong ?? fields.deadband}
        help="Live publications take it at their next go-live"
        unit={tag.unit}
        mono
      />
      <div className="flex justify-end gap-2 py-1">
        <Button small onClick={onDone}>
          Cancel
        </Button>
        <Button small kind="main" type="submit" busy={busy}>
          Save
        </Button>
      </div>
    </form>
  )
}

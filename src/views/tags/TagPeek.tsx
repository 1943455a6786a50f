import { useState } from 'react'
import type { Source } from '~/contract/source'
import type { Tag } from '~/contract/tag'
import { showAddress } from '~/core/source/address'
import { deadbandText, type Surroundings } from '~/core/tag/columns'
import { deadbandWidth } from '~/core/value/deadband'
import { formatValue } from '~/core/value/format'
import { qualityText } from '~/core/value/quality'
import { fromWire } from '~/core/value/wire'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Fact, Heading } from '~/ui/Notes'
import { ageText, Time, useNow } from '~/ui/time'
import { useCall } from '../app/api'
import { useLiveValue, useWatch } from '../app/live/live'
import { Note } from './Note'
import { PropertyForm } from './PropertyForm'
import { valueGlyph } from './quality'
import { MadeUp, Simulation } from './Simulation'
import { TagChart } from './TagChart'
import { WriteValue } from './WriteValue'

/** One tag as it is now, how it is read, and what uses it. */
export function TagPeek({ tag, source, mayEdit, around }: { tag: Tag; source: Source | undefined; mayEdit: boolean; around: Surroundings }) {
  useWatch({ tags: [tag.handle], sparks: true })
  const v = useLiveValue(tag.handle)
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
        <Button small disabled={!mayEdit} title={mayEdit ? 'All its properties' : 'Needs the role engineer'} onClick={() => setEditing(!editing)}>
          {editing ? 'Close' : 'Edit'}
        </Button>
      </div>
      <div className="text-muted">
        {source?.name} {tag.description && `· ${tag.description}`}
      </div>
      <div className="mt-2 flex items-baseline gap-2">
        <span data-live className={`font-mono text-[23px] leading-8 font-semibold ${bad ? 'text-bad' : ''}`}>
          {v ? formatValue(v[1], tag) : '-'}
        </span>
        <span className="text-muted">{tag.unit}</span>
        <span className="ml-auto">
          <MadeUp tag={tag} />
        </span>
      </div>
      <div className={bad ? 'text-bad' : 'text-muted'}>{v ? qualityText(v[2]) : 'no value yet'}</div>
      <Note tag={tag} status={v?.[2]} />
      <div className="my-2 rounded-sm border border-line bg-paper p-1.5">
        <TagChart tag={tag} bad={bad} />
      </div>
      {editing && <PropertyForm tag={tag} around={around} onDone={() => setEditing(false)} />}
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
      <Fact name="Read every">{rateText(tag, around, source)}</Fact>
      {tag.scaling && (
        <Fact name="Scaled">
          {tag.scaling.rawLow} to {tag.scaling.rawHigh} is {tag.scaling.low} to {tag.scaling.high} {tag.unit}
          {tag.scaling.clamp && ', clamped'}
        </Fact>
      )}
      <Fact name="Deadband">
        {!tag.deadband || tag.deadband.size === 0
          ? 'none: every change'
          : tag.deadband.kind === 'absolute'
            ? `${deadbandText(tag.deadband)} ${tag.unit}`
            : `${deadbandText(tag.deadband)} of range, ${deadbandWidth(tag.deadband, tag.range)} ${tag.unit}`}
      </Fact>
      {tag.initial !== null && <Fact name="Initial value">{String(fromWire(tag.initial))}</Fact>}
      {tag.hold !== 'nothing' && (
        <Fact name="Last value held" mono={false}>
          {tag.hold === 'engine' ? 'when the engine starts again' : 'also when the machine starts again'}
        </Fact>
      )}
      {tag.history && (
        <Fact name="History" mono={false}>
          to be stored{tag.history.deadband ? `, deadband ${deadbandText(tag.history.deadband)}` : ''}
        </Fact>
      )}
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

function rateText(tag: Tag, around: Surroundings, source: Source | undefined): string {
  if (tag.sampleMs !== null) return `${tag.sampleMs} ms, its own`
  if (tag.groupId !== null) return `as the group ${around.groupName.get(tag.groupId) ?? ''}`
  const ms = source && 'rateMs' in source.settings ? source.settings.rateMs : null
  return ms === null ? 'when the source speaks' : `${ms} ms, its source's`
}

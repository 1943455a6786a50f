import type { Equipment } from '~/contract/equipment'
import type { PlanMember } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import type { Leaf } from '~/core/equipment/resolve'
import { newest } from '~/core/shape/choose'
import { flatWriter } from '~/core/shape/flat-json'
import { displayValue } from '~/core/value/datatype'
import { qualityText } from '~/core/value/quality'
import { serverNow } from '~/ui/clock'
import { Fact, Heading } from '~/ui/Notes'
import { bytesText, Time } from '~/ui/time'
import { useCall } from '../app/api'
import { useLiveValue } from '../app/live/live'
import { Payload } from '../shared/Payload'
import { inputText } from './bind/ExpressionForm'
import { convertedText } from './binding-text'
import { type PlantModel, useCells } from './useModel'

/** The payload of one equipment with the values of this moment, and where a chosen member comes from. */
export function EquipmentPeek({ equipment, model, chosen }: { equipment: Equipment; model: PlantModel; chosen: string | null }) {
  const publications = useCall('listPublications')
  const leaves = model.resolver.leavesOf(equipment)
  const cells = useCells(leaves)
  const filled = leaves.flatMap((l, i) => (l.fill && cells[i] ? [{ leaf: l, cell: cells[i] }] : []))
  const members: PlanMember[] = filled.map(({ leaf }) => ({
    key: leaf.keys.join('.'),
    dataType: leaf.member.dataType,
    unit: leaf.member.unit,
    fill: leaf.fill!,
    label: leaf.label,
    description: '',
    required: false,
    range: null,
    allowed: null,
    tag: '',
  }))
  const part = { cells: filled.map((f) => f.cell), changed: new Uint8Array(filled.length) }
  const at = newest(part.cells, serverNow())
  const payload = `{"at":"${new Date(at).toISOString()}"${flatWriter(flatJsonSettings, members)(part, at, true)}}`
  const using = (publications.data ?? []).filter((p) => p.equipmentIds.includes(equipment.id))
  const pointed = leaves.findIndex((l) => l.keys.join('.') === chosen)
  return (
    <>
      {pointed >= 0 && (
        <section aria-label="Where it comes from" className="mb-4" data-origin>
          <h2 className="text-[15px] font-semibold">{leaves[pointed]!.label}: where it comes from</h2>
          <Origin leaf={leaves[pointed]!} model={model} />
          {cells[pointed] && (
            <>
              <Fact name={`As sent${leaves[pointed]!.member.unit ? `, ${leaves[pointed]!.member.unit}` : ''}`}>
                {displayValue(cells[pointed]!.value)}
              </Fact>
              <Fact name="Quality" mono={false}>
                {cells[pointed]!.problem ?? qualityText(cells[pointed]!.status)}
              </Fact>
            </>
          )}
        </section>
      )}
      <h2 className="text-[15px] font-semibold">Payload now</h2>
      <div className="mb-2 text-muted">
        {equipment.name}, flat JSON, {bytesText(new TextEncoder().encode(payload).length)}
      </div>
      <Payload text={payload} />
      <Heading>Sent by</Heading>
      {using.length === 0 && <p className="text-muted">No publication yet.</p>}
      {using.map((p) => (
        <div key={p.id} className="border-b border-line py-1">
          <a className="text-slate underline" href={`/publications?id=${p.id}`}>
            {p.name}
          </a>{' '}
          <span className="text-muted">{p.state}</span>
        </div>
      ))}
    </>
  )
}

/** Source, tag, raw value and conversions of a member, or what it is computed from. */
function Origin({ leaf, model }: { leaf: Leaf; model: PlantModel }) {
  const sources = useCall('listSources')
  const source = (id: string) => sources.data?.find((s) => s.id === id)?.name ?? '-'
  const b = leaf.binding
  if (!b) return <p className="text-muted">Nothing fills it.</p>
  const converted = convertedText(leaf)
  switch (b.kind) {
    case 'tag':
      return (
        <>
          <TagOrigin id={b.tagId} model={model} source={source} />
          {converted && <Fact name="Converted">{converted}</Fact>}
        </>
      )
    case 'record':
      return (
        <>
          <Fact name="Record source" mono={false}>
            {source(b.sourceId)}
          </Fact>
          {b.row && <Fact name="Row">{b.row}</Fact>}
          <Fact name="Column">{b.column}</Fact>
          {leaf.fill?.kind === 'tag' && <Raw handle={leaf.fill.handle} unit="" />}
        </>
      )
    case 'expression':
      return (
        <>
          {leaf.byClass && <p className="text-muted">Computed the same way in every equipment of its class.</p>}
          <pre className="my-1 rounded-sm border border-line bg-paper px-2 py-1.5 font-mono text-[12px] whitespace-pre-wrap">{b.expression.text}</pre>
          {Object.entries(b.expression.inputs).map(([name, i]) => (
            <div key={name} className="mt-1.5">
              <Fact name={<code className="font-mono text-[12.5px]">{name}</code>} mono={false}>
                {inputText(i, leaf.owner, model)}
              </Fact>
              <div className="border-l-2 border-line pl-2">
                {i.kind === 'tag' && <TagOrigin id={i.tagId} model={model} source={source} />}
                {i.kind === 'member' && <MemberOrigin equipmentId={i.equipmentId ?? leaf.owner.id} path={i.path} model={model} />}
              </div>
            </div>
          ))}
        </>
      )
    case 'member':
      return (
        <>
          <Fact name="Member" mono={false}>
            {inputText({ kind: 'member', equipmentId: b.equipmentId, path: b.path }, leaf.owner, model)}
          </Fact>
          <div className="border-l-2 border-line pl-2">
            <MemberOrigin equipmentId={b.equipmentId} path={b.path} model={model} />
          </div>
        </>
      )
    case 'fact':
      return <Fact name={`Fact ${b.fact}`}>{String(leaf.owner.facts[b.fact] ?? 'not there')}</Fact>
    case 'constant':
      return <Fact name="Constant">{String(b.value)}</Fact>
    default:
      return <p className="text-muted">{leaf.problem?.message}</p>
  }
}

function MemberOrigin({ equipmentId, path, model }: { equipmentId: string; path: string; model: PlantModel }) {
  const one = model.equipment.get(equipmentId)
  const at = one && model.resolver.locate(one, path)
  const leaf = at && model.resolver.leavesOf(at.owner).find((l) => l.path === at.path && l.owner.id === at.owner.id)
  return leaf ? <Origin leaf={leaf} model={model} /> : <p className="text-bad">It is gone.</p>
}

function TagOrigin({ id, model, source }: { id: string; model: PlantModel; source(id: string): string }) {
  const tag = model.tags.get(id)
  if (!tag) return <p className="text-bad">The tag is gone.</p>
  return (
    <>
      <Fact name="Source" mono={false}>
        {source(tag.sourceId)}
      </Fact>
      <Fact name="Tag" mono={false}>
        <a className="text-slate underline" href={`/tags?tag=${tag.id}`}>
          {tag.name}
        </a>
      </Fact>
      {tag.scaling && (
        <Fact name="Scaled">
          {tag.scaling.rawLow} to {tag.scaling.rawHigh} is {tag.scaling.low} to {tag.scaling.high}
        </Fact>
      )}
      <Raw handle={tag.handle} unit={tag.unit} />
    </>
  )
}

function Raw({ handle, unit }: { handle: number; unit: string }) {
  const v = useLiveValue(handle)
  return (
    <>
      <Fact name={`As it came${unit ? `, ${unit}` : ''}`}>
        <span data-live>{v ? displayValue(v[1]) : '-'}</span>
      </Fact>
      <Fact name="Device time">{v?.[3] ? <Time at={v[3]} date /> : '-'}</Fact>
    </>
  )
}

import type { Source } from '~/contract/source'
import type { Tag } from '~/contract/tag'
import type { Surroundings } from '~/core/tag/columns'
import { formatValue } from '~/core/value/format'
import { qualityText } from '~/core/value/quality'
import { Glyph } from '~/ui/Glyph'
import { Fact, Heading, Loading } from '~/ui/Notes'
import { ageText, Time, useNow } from '~/ui/time'
import { useCall } from '../app/api'
import { useLiveValue, useWatch } from '../app/live/live'
import { findHopOf } from '../proof/way/words'
import { tagsPageOf } from '../sources/kinds'
import { FollowValue } from './FollowValue'
import { Note } from './Note'
import { TagSentences } from './properties/TagSentences'
import { valueGlyph } from './quality'
import { MadeUp, Simulation } from './Simulation'
import { TagChart } from './TagChart'
import { WriteValue } from './WriteValue'

interface Props {
  tag: Tag
  source: Source | undefined
  mayEdit: boolean
  /** Null: not known yet. */
  around: Surroundings | null
}

/** One tag as it is now, how it is read, and what uses it. */
export function TagPeek({ tag, source, mayEdit, around }: Props) {
  useWatch({ tags: [tag.handle], sparks: true })
  const v = useLiveValue(tag.handle)
  const use = useCall('tagUse', { params: { id: tag.id } })
  const now = useNow()
  const bad = v !== undefined && v[2] >>> 30 === 2
  return (
    <>
      <div className="flex items-start gap-2">
        <span className="pt-0.5">
          <Glyph state={valueGlyph(v)} />
        </span>
        <h2 className="min-w-0 flex-1 text-[15px] leading-5 font-semibold break-words">{tag.name}</h2>
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
      {around ? (
        <TagSentences key={tag.id} tag={tag} source={source} around={around} mayEdit={mayEdit} />
      ) : (
        <Loading rows={5} label="Loading the properties" />
      )}
      <div className="mt-2">
        <Fact name="Device time">{v?.[3] ? <Time at={v[3]} date /> : '-'}</Fact>
        <Fact name="Received">{v?.[4] ? `${ageText(now - v[4])} ago` : '-'}</Fact>
      </div>
      {source && tagsPageOf(source.kind) === '/sources/registers' && (
        <a className="text-slate underline" href={`/sources/registers?source=${source.id}&tag=${tag.id}`}>
          Look at its registers
        </a>
      )}
      <WriteValue tag={tag} />
      <Simulation tag={tag} mayEdit={mayEdit} />
      <Heading>Where it is used</Heading>
      <a className="text-slate underline" href={findHopOf('tag', tag.id)}>
        Find the hop at which it stops
      </a>
      {use.data && use.data.publications.length > 0 && (
        <div className="mt-1.5">
          <FollowValue key={tag.id} tag={tag} received={v?.[4] ?? null} />
        </div>
      )}
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

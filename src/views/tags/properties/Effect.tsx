import type { Tag } from '~/contract/tag'
import { changesBeyond, keptADay } from '~/core/tag/effect'
import type { SentenceTopic } from '~/core/tag/sentences'
import { isOutside } from '~/core/tag/view'
import { deadbandWidth } from '~/core/value/deadband'
import { formatValue } from '~/core/value/format'
import { countText } from '~/ui/time'
import { useLiveValue, useSpark } from '../../app/live/live'
import { ScalingFigure } from './ScalingFigure'
import type { Properties } from './useProperties'

/** Between two readings of what the engine remembers, ms. */
const EVERY_MS = 5000

/** What a property does to this tag's own values, now or in the last ten minutes; nothing where it does none. */
export function Effect({ topic, tag, properties }: { topic: SentenceTopic; tag: Tag; properties: Properties }) {
  const draft = properties.planned.draft ?? tag
  if (topic === 'value') return <NowShown tag={tag} draft={draft} />
  if (topic === 'scaling') return draft.scaling ? <ScalingFigure tag={tag} scaling={draft.scaling} unit={draft.unit} /> : null
  if (topic === 'deadband') return <Counted tag={tag} draft={draft} />
  if (topic === 'range') return <Within tag={tag} range={draft.range} />
  if (topic === 'history') return draft.history ? <Kept tag={tag} draft={draft} /> : null
  return null
}

type Draft = Pick<Tag, 'deadband' | 'range' | 'history' | 'format' | 'dataType' | 'unit' | 'scaling'>

const Line = ({ children }: { children: React.ReactNode }) => <div className="text-xs text-muted">{children}</div>

function NowShown({ tag, draft }: { tag: Tag; draft: Draft }) {
  const v = useLiveValue(tag.handle)
  if (!v) return null
  const [before, after] = [formatValue(v[1], tag), formatValue(v[1], draft)]
  if (before === after && tag.unit === draft.unit) return null
  return (
    <Line>
      {before} {tag.unit} → {after} {draft.unit}
    </Line>
  )
}

function Counted({ tag, draft }: { tag: Tag; draft: Draft }) {
  const points = useSpark(tag.handle) ?? []
  const readings = points.filter((p) => p !== null).length
  if (readings < 2) return null
  const count = (of: Draft) => changesBeyond(points, deadbandWidth(of.deadband, of.range))
  const [before, after] = [count(tag), count(draft)]
  return (
    <Line>
      Of {countText(readings)} readings in ten minutes (one every 5 s) {before === after ? '' : `${countText(before)} → `}
      <b className="text-ink">{countText(after)}</b> {after === 1 ? 'counts' : 'count'}
    </Line>
  )
}

function Within({ tag, range }: { tag: Tag; range: Tag['range'] }) {
  const v = useLiveValue(tag.handle)
  const value = v === undefined ? null : v[1]
  if (!range || (typeof value !== 'number' && typeof value !== 'bigint')) return null
  if (!isOutside({ range }, Number(value)))
    return (
      <Line>
        Now {formatValue(value, tag)} {tag.unit}
      </Line>
    )
  return (
    <div className="text-xs text-uncertain">
      Now it is outside: {formatValue(value, tag)} {tag.unit}
    </div>
  )
}

function Kept({ tag, draft }: { tag: Tag; draft: Draft }) {
  const points = useSpark(tag.handle) ?? []
  const history = draft.history!
  const count = keptADay(points, EVERY_MS, {
    width: deadbandWidth(history.deadband, draft.range),
    minMs: history.minMs,
    maxMs: history.maxMs,
  })
  if (count === null) return null
  return (
    <Line>
      About <b className="text-ink">{countText(count)}</b> values a day, if the day goes as the last ten minutes
    </Line>
  )
}

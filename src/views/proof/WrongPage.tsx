import type { ReactNode } from 'react'
import type { WhatIsWrong, Wrong } from '~/contract/wrong'
import { accountSentence } from '~/core/proof/account-words'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { Heading } from '~/ui/Notes'
import { Age, ageText, countText, Time } from '~/ui/time'
import { useCall } from '../app/api'
import { Row } from '../app/Frame'
import { Asked } from '../shared/Asked'
import { hopTo, over, type Way, wayTo } from './wrong-words'

/** The first thing seen: whether all arrived, what is wrong and why, what was, and what will be. */
export function WrongPage() {
  const wrong = useCall('whatIsWrong', { refetchMs: 3000 })
  return (
    <>
      <Row station="proof" page="What is wrong" />
      <main className="min-h-0 flex-1 overflow-auto px-4 py-3">
        <Asked of={wrong}>{(w) => <Told wrong={w} />}</Asked>
      </main>
    </>
  )
}

function Told({ wrong: w }: { wrong: WhatIsWrong }) {
  const hour = over(w.hour, w.now)
  return (
    <>
      <h2 className="max-w-4xl text-[19px] leading-6 font-semibold" data-sentence>
        {accountSentence(w.fates, 'in the last 24 hours')}
      </h2>
      <p className="mt-1 mb-3 text-muted">
        {countText(w.fates.reduce((n, f) => n + f.produced, 0))} messages to{' '}
        {w.fates.length === 1 ? w.fates[0]!.destination : `${w.fates.length} destinations`}; looked at <Time at={w.at} />
      </p>
      <Heading>{w.now.length === 0 ? 'Wrong now' : `Wrong now: ${w.now.length}`}</Heading>
      <Rows label="Wrong now" empty="Nothing: every source, tag, publication and destination that is switched on does its work.">
        {w.now.map((x) => (
          <Item
            key={`${x.where} ${x.subjectId} ${x.subject} ${x.cause}`}
            glyph={x.severity}
            subject={x.subject}
            when={x.since === null ? '' : <Since at={x.since} now={w.at} />}
            cause={x.cause}
            hint={x.hint}
            way={wayTo(x)}
            hop={hopTo(x)}
          />
        ))}
      </Rows>
      <Heading>Over, in the last hour</Heading>
      <Rows label="Over, in the last hour" empty="Nothing else went wrong in the last hour.">
        {hour.map((h) => (
          <Item
            key={`${h.where} ${h.subjectId} ${h.subject} ${h.code}`}
            glyph="idle"
            subject={h.subject}
            when={
              <>
                {h.times > 1 && `${countText(h.times)} times, last `}
                <Age at={h.last} /> ago
              </>
            }
            cause={h.cause}
            hint={h.hint}
            way={wayTo(h)}
          />
        ))}
      </Rows>
      <Heading>Will be wrong</Heading>
      <Rows label="Will be wrong" empty="Nothing that Embrik can see coming: no certificate ends within 30 days, no outbox fills.">
        {w.soon.map((x) => (
          <Item
            key={`${x.where} ${x.subjectId} ${x.subject}`}
            glyph="uncertain"
            subject={x.subject}
            when={x.since === null ? '' : soonText(x, w.at)}
            cause={x.cause}
            hint={x.hint}
            way={wayTo(x)}
          />
        ))}
      </Rows>
    </>
  )
}

const soonText = (x: Wrong, now: number) => (x.since! > now ? `in ${ageText(x.since! - now)}` : 'now')

const Since = ({ at, now }: { at: number; now: number }) => <span title={new Date(at).toISOString()}>for {ageText(Math.max(0, now - at))}</span>

function Rows({ label, empty, children }: { label: string; empty: string; children: ReactNode[] }) {
  if (children.length === 0) return <p className="mb-3 text-muted">{empty}</p>
  return (
    <ul aria-label={label} className="mb-3 rounded-sm border border-line bg-sheet">
      {children}
    </ul>
  )
}

interface ItemProps {
  glyph: GlyphState
  subject: string
  when: ReactNode
  cause: string
  hint: string
  way: Way | null
  /** Where its hop is found. */
  hop?: string | null
}

function Item({ glyph, subject, when, cause, hint, way, hop }: ItemProps) {
  return (
    <li className="grid grid-cols-[14px_minmax(0,260px)_minmax(0,130px)_minmax(0,1fr)_auto] items-start gap-3 border-b border-line px-3 py-[7px] last:border-b-0">
      <span className="pt-px">
        <Glyph state={glyph} />
      </span>
      <span className="font-semibold break-words">{subject}</span>
      <span className="font-mono text-[12.5px] text-muted">{when}</span>
      <span>
        {cause}
        {hint && <span className="text-muted">. {hint}</span>}
      </span>
      <span className="grid justify-items-end gap-0.5 whitespace-nowrap">
        {way && (
          <a href={way.href} className="text-slate underline">
            {way.label}
          </a>
        )}
        {hop && (
          <a href={hop} className="text-slate underline">
            Find the hop
          </a>
        )}
      </span>
    </li>
  )
}

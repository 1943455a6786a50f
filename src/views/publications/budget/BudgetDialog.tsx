import { useState } from 'react'
import type { BudgetSum } from '~/contract/budget'
import type { Publication, PublicationDraft } from '~/contract/publication'
import { Button } from '~/ui/Button'
import { Choice } from '~/ui/Field'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Modal } from '~/ui/Modal'
import { Heading, Loading, ProblemNote } from '~/ui/Notes'
import { bytesText, countText, durationText, Time } from '~/ui/time'
import { shareText } from '../replay/words'
import { BudgetCurve } from './BudgetCurve'
import { type Really, type Reckoned, useBudgets } from './useBudgets'
import { aDay, aMonth, costText, lostText, octetsOf, spans } from './words'

interface Props {
  publication: Publication | null
  draft: PublicationDraft
  mayEdit: boolean
  onTake(change: Partial<PublicationDraft>, label: string): void
  onClose(): void
}

/** What is reckoned from less is a guess, ms. */
const SHORT_MS = 120_000
const PRICE = 'embrik price a megabyte'

/** What a publication costs in messages and octets, and other ways to send the same against what is lost of the curves. */
export function BudgetDialog({ publication, draft, mayEdit, onTake, onClose }: Props) {
  const [minutes, setMinutes] = useState<(typeof spans)[number]['value']>('10')
  const [price, setPrice] = useState(() => localStorage.getItem(PRICE) ?? '')
  const { found, really, under, problem, run, stop } = useBudgets(publication, draft)
  const [chosen, setChosen] = useState<string | null>(null)
  const take = found.find((r) => r.key === chosen && r.budget && r.kind !== 'as it is')
  return (
    <Modal
      open
      onClose={() => {
        stop()
        onClose()
      }}
      title={`Data budget of ${draft.name || 'this draft'}`}
      note="Runs the draft, and other ways to send the same, over what was recorded of its tags. Nothing goes out."
      width={960}
      foot={
        <>
          <span className="mr-auto flex items-center gap-3">
            <Choice label="Span" value={minutes} options={spans} onChange={setMinutes} />
            <label className="flex items-center gap-1.5 text-muted">
              price a MB
              <input
                type="number"
                min={0}
                step="any"
                className="w-20 rounded-sm border border-line bg-sheet px-1.5 py-[3px] text-ink"
                value={price}
                onChange={(e) => {
                  setPrice(e.target.value)
                  localStorage.setItem(PRICE, e.target.value)
                }}
              />
            </label>
          </span>
          {under && (
            <>
              <span className="text-muted" role="status">
                {under.done} of {under.of}
              </span>
              <Button kind="quiet" onClick={stop}>
                Stop
              </Button>
            </>
          )}
          {take && (
            <Button disabled={!mayEdit} onClick={() => onTake(take.change, take.label)}>
              Take {take.label}
            </Button>
          )}
          <Button kind="main" busy={under !== null} onClick={() => void run(Number(minutes))}>
            Reckon
          </Button>
        </>
      }
    >
      {problem && <ProblemNote problem={problem} />}
      {found.length === 0 && under && <Loading label="Reckoning" />}
      {found.length === 0 && !under && !problem && (
        <p className="text-muted">
          Choose how far back, then reckon. What tags hold is recorded for a day, up to 200 MB, unless the installation says otherwise.
        </p>
      )}
      {found.length > 0 && <Found {...{ found, really, chosen }} price={Number(price)} onChoose={(key) => setChosen(key === chosen ? null : key)} />}
    </Modal>
  )
}

function Found({
  found,
  really,
  chosen,
  price,
  onChoose,
}: {
  found: readonly Reckoned[]
  really: Really | null
  chosen: string | null
  price: number
  onChoose(key: string): void
}) {
  const first = found[0]!.budget!
  const { from, to, cut, problems, damaged } = first
  const one = found.find((r) => r.key === chosen)
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-2">
      <p className="text-[15px]">{sentence(first.would, first, price)}</p>
      <p className="text-muted">
        By what was recorded from <Time at={from} date /> to <Time at={to} date />
        {cut && ': there was more of it than is reckoned at once'}
        {really?.sum && really.sum.messages > 0 && (
          <>
            . Really sent in that time: {countText(really.sum.messages)} messages, {bytesText(octetsOf(really.sum))}; reckoned:{' '}
            {countText(first.would.messages)}, {bytesText(octetsOf(first.would))}
          </>
        )}
        {really?.wrong && <>. What was really sent could not be read: {really.wrong.message}</>}.
      </p>
      {to - from < SHORT_MS && (
        <p className="text-uncertain">
          Only {durationText(to - from)} are recorded: what a day costs by that is a guess, and ways that are slower than that say nothing.
        </p>
      )}
      <BudgetCurve found={found} chosen={chosen} onChoose={onChoose} />
      <ListTable
        label="Ways to send it"
        rows={found}
        columns={columnsOf(first, price)}
        rowKey={(r) => r.key}
        chosen={chosen}
        onChoose={onChoose}
        dense
        fixed
        scroller="max-h-[27vh] overflow-auto"
      />
      {one?.budget && one.budget.members.length > 0 && <Members of={one} />}
      <ul className="text-xs text-muted">
        <li>
          {first.would.wire
            ? 'Octets are those of packets both ways, with what the protocol and TLS put around messages; TCP and IP add about 40 a packet.'
            : 'Octets are those of payloads: there is no model of what this destination puts around them.'}
        </li>
        <li>Lost is how far a curve that holds what was sent last is from what it was, as a share of what each number moved.</li>
        {damaged > 0 && <li className="text-uncertain">{damaged} stretches of the recording could not be read: what was in them is missing here.</li>}
        {problems.map((p) => (
          <li key={p}>The draft fails: {p}</li>
        ))}
      </ul>
    </div>
  )
}

function sentence(would: BudgetSum, span: { from: number; to: number }, price: number): string {
  const day = aDay(octetsOf(would), span)
  const cost = costText(day, price)
  return `${countText(Math.round(aDay(would.messages, span)))} messages and ${bytesText(Math.round(day))} a day, ${bytesText(Math.round(aMonth(day)))} a month${cost && `, which cost ${cost}`}.`
}

/** Those of its members that lose most. */
function Members({ of }: { of: Reckoned }) {
  const rows = of.budget!.members.filter((m) => m.most > 0).slice(0, 12)
  if (rows.length === 0) return null
  const figure = (n: number, unit: string) => `${Number(n.toPrecision(3))}${unit && ` ${unit}`}`
  return (
    <>
      <Heading>What {of.label} loses, the worst first</Heading>
      <ListTable
        label="Members"
        rows={rows}
        columns={[
          { key: 'name', head: 'Member', cell: (m) => m.name },
          { key: 'span', head: 'It moved', width: '130px', cell: (m) => figure(m.span, m.unit) },
          { key: 'most', head: 'Off at most', width: '130px', cell: (m) => figure(m.most, m.unit) },
          { key: 'rms', head: 'Off, RMS', width: '130px', cell: (m) => figure(m.rms, m.unit) },
        ]}
        rowKey={(m) => m.name}
        dense
        fixed
      />
    </>
  )
}

function columnsOf(first: NonNullable<Reckoned['budget']>, price: number): ListColumn<Reckoned>[] {
  const of = (show: (b: NonNullable<Reckoned['budget']>) => string) => (r: Reckoned) => (r.budget ? show(r.budget) : '-')
  const before = octetsOf(first.would) / (first.to - first.from)
  return [
    { key: 'label', head: 'Way', cell: (r) => (r.wrong ? `${r.label}: ${r.wrong.message}` : r.label) },
    { key: 'messages', head: 'Messages a day', width: '120px', cell: of((b) => countText(Math.round(aDay(b.would.messages, b)))) },
    { key: 'octets', head: 'A day', width: '80px', cell: of((b) => bytesText(Math.round(aDay(octetsOf(b.would), b)))) },
    { key: 'month', head: 'A month', width: '80px', cell: of((b) => bytesText(Math.round(aMonth(aDay(octetsOf(b.would), b))))) },
    ...(price > 0 ? [{ key: 'cost', head: 'Costs', width: '76px', cell: of((b) => costText(aDay(octetsOf(b.would), b), price)) }] : []),
    { key: 'against', head: 'Against it', width: '86px', cell: of((b) => shareText(octetsOf(b.would) / (b.to - b.from), before)) },
    { key: 'most', head: 'Lost at most', width: '94px', cell: of((b) => (b.lost ? lostText(b.lost.most) : 'not told')) },
    { key: 'rms', head: 'Lost, RMS', width: '86px', cell: of((b) => (b.lost ? lostText(b.lost.rms) : 'not told')) },
  ]
}

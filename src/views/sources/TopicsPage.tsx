import { useEffect, useMemo, useRef, useState } from 'react'
import { toast } from 'sonner'
import type { Source } from '~/contract/source'
import { filtersOf, type HeardTopic } from '~/contract/sources/mqtt'
import { type NamingRule, proposeName } from '~/core/source/naming'
import { Button } from '~/ui/Button'
import { FilterBox, TextField } from '~/ui/Field'
import { Empty, Fact, Heading, Loading, type Problem, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { bytesText, countText } from '~/ui/time'
import { useFilterInAddress, useTextInAddress } from '../app/address'
import { call, callStream, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { Payload } from '../shared/Payload'
import { VirtualTree } from '../shared/VirtualTree'
import { NamingFields } from './NamingFields'
import { SourceSelect } from './SourceSelect'
import { leavesOfTopic, type TopicLeaf, topicRows } from './topic-tree'

type MqttSource = Extract<Source, { kind: 'mqtt' }>

export function TopicsPage() {
  const sources = useCall('listSources')
  if (sources.error) return <ProblemNote problem={failureIn(sources.error)} />
  if (!sources.data) return <Loading />
  const list = sources.data.filter((s) => s.kind === 'mqtt')
  if (list.length > 0) return <Listen sources={list} />
  return (
    <>
      <Row station="sources" page="Topics" />
      <Empty
        title="No source of topics yet"
        action={
          <a className="text-slate underline" href="/sources?add">
            Add a source
          </a>
        }
      >
        Where devices publish on a broker by themselves, tags are made from the topics that they speak on.
      </Empty>
    </>
  )
}

const formats: Record<HeardTopic['format'], string> = {
  number: 'number',
  boolean: 'true or false',
  text: 'text',
  json: 'JSON',
  sparkplug: 'Sparkplug B',
  bytes: 'bytes',
  empty: 'empty',
}

/** Listens for a while and keeps what was heard, newest over older. */
function useListening() {
  const [state, setState] = useState<{ topics: Map<string, HeardTopic>; elapsedS: number; messages: number; busy: boolean; more: boolean }>({
    topics: new Map(),
    elapsedS: 0,
    messages: 0,
    busy: false,
    more: false,
  })
  const [problem, setProblem] = useState<Problem | null>(null)
  const abort = useRef<AbortController | null>(null)
  useEffect(() => () => abort.current?.abort(), [])
  const stop = () => {
    abort.current?.abort()
    setState((s) => ({ ...s, busy: false }))
  }
  const start = (id: string, filters: string, seconds: number) => {
    abort.current?.abort()
    const mine = new AbortController()
    abort.current = mine
    setProblem(null)
    setState({ topics: new Map(), elapsedS: 0, messages: 0, busy: true, more: false })
    callStream('listenOnTopics', { params: { id }, body: { filters, seconds }, signal: mine.signal }, (heard) =>
      setState((old) => {
        const topics = new Map(old.topics)
        for (const t of heard.topics) topics.set(t.topic, t)
        return { topics, elapsedS: heard.elapsedS, messages: heard.messages, busy: !heard.over, more: heard.more }
      }),
    )
      .catch((e: unknown) => {
        if (!mine.signal.aborted) setProblem(failureIn(e))
      })
      .finally(() => {
        if (abort.current === mine) setState((s) => ({ ...s, busy: false }))
      })
  }
  return { ...state, problem, start, stop }
}

function Listen({ sources }: { sources: MqttSource[] }) {
  const mayEdit = useMay('engineer')
  const tags = useCall('listTags')
  const [sourceId, setSourceId] = useTextInAddress('source')
  const source = sources.find((s) => s.id === sourceId) ?? sources[0]!
  const [filters, setFilters] = useFilterInAddress('filters')
  const [seconds, setSeconds] = useState('20')
  const heard = useListening()
  const [closed, setClosed] = useState<ReadonlySet<string>>(new Set())
  const [words, setWords] = useFilterInAddress()
  const [picked, setPicked] = useState<ReadonlyMap<string, TopicLeaf>>(new Map())
  const [rule, setRule] = useState<NamingRule>({ drop: 0, before: '' })
  const [shown, setShown] = useState<string | null>(null)
  const [adding, setAdding] = useState(false)
  const [problem, setProblem] = useState<(Problem & { fields?: Record<string, string> | undefined }) | null>(null)
  const taken = useMemo(() => new Map((tags.data ?? []).filter((t) => t.sourceId === source.id).map((t) => [t.address, t.name])), [tags.data, source])
  const rows = useMemo(() => topicRows(heard.topics, closed, words.trim().toLowerCase(), picked, taken), [heard.topics, closed, words, picked, taken])
  const one = shown === null ? undefined : heard.topics.get(shown)
  const duration = Number(seconds) >= 1 && Number(seconds) <= 600 ? Number(seconds) : null

  const pick = (leaves: readonly TopicLeaf[], on: boolean) =>
    setPicked((old) => {
      const next = new Map(old)
      for (const l of leaves) {
        if (on && !taken.has(l.address)) next.set(l.address, l)
        else next.delete(l.address)
      }
      return next
    })
  const underOf = (path: string) =>
    [...heard.topics.values()].filter((t) => t.topic === path || t.topic.startsWith(`${path}/`)).flatMap(leavesOfTopic)
  const list = [...picked.values()]
  const add = async () => {
    setAdding(true)
    setProblem(null)
    try {
      const made = await call('addTags', {
        body: {
          tags: list.map((l) => ({ name: proposeName(l.levels, rule), sourceId: source.id, address: l.address, dataType: l.dataType, unit: l.unit })),
        },
      })
      await refresh('listTags', 'listSources')
      setPicked(new Map())
      toast.success(`${countText(made.length)} ${made.length === 1 ? 'tag' : 'tags'} added`)
    } catch (e) {
      setProblem(failureIn(e))
    } finally {
      setAdding(false)
    }
  }
  return (
    <>
      <Row station="sources" page="Topics">
        {heard.busy ? (
          <Button onClick={heard.stop}>Stop listening</Button>
        ) : (
          <Button
            kind="main"
            disabled={!mayEdit || duration === null}
            title={mayEdit ? '' : 'Needs the role engineer'}
            onClick={() => heard.start(source.id, filters.trim(), duration ?? 20)}
          >
            {heard.topics.size > 0 ? 'Listen again' : 'Listen'}
          </Button>
        )}
      </Row>
      <ThreeParts
        id="topics"
        peekWidth={360}
        left={
          <div className="px-3 py-1 [&>div]:grid-cols-1">
            <SourceSelect sources={sources} value={source.id} onChange={setSourceId} />
            <TextField
              label="Listen on"
              mono
              value={filters}
              placeholder={filtersOf(source.settings.filters).join(' ')}
              help="Empty: the filters of the source. A tag outside of those is never heard"
              onChange={(e) => setFilters(e.target.value)}
            />
            <TextField
              label="For"
              mono
              unit="s"
              value={seconds}
              error={duration === null ? 'From 1 to 600 s' : undefined}
              onChange={(e) => setSeconds(e.target.value)}
            />
            {(heard.busy || heard.messages > 0) && (
              <>
                <Heading level={2}>Heard</Heading>
                <div className="my-1 h-[5px] overflow-hidden rounded-sm bg-well" aria-hidden="true">
                  <div className="h-full bg-clay" style={{ width: `${Math.min(100, (100 * heard.elapsedS) / (duration ?? 20))}%` }} />
                </div>
                <p className="text-muted" role="status">
                  {countText(heard.messages)} messages on {countText(heard.topics.size)} topics in {Math.round(heard.elapsedS)} s
                </p>
                {heard.more && <p className="text-uncertain">More topics than are kept here: narrow the filters.</p>}
              </>
            )}
          </div>
        }
        peek={
          <>
            <div className="flex items-center justify-between">
              <h2 className="text-[15px] font-semibold">{list.length === 0 ? 'Nothing chosen yet' : `${countText(list.length)} chosen`}</h2>
              <Button kind="main" disabled={list.length === 0 || !mayEdit} busy={adding} onClick={() => void add()}>
                {list.length === 1 ? 'Add 1 tag' : `Add ${list.length > 0 ? countText(list.length) : ''} tags`}
              </Button>
            </div>
            {problem && (
              <div className="my-2">
                <ProblemNote problem={problem} />
              </div>
            )}
            {list.length > 0 && (
              <>
                <NamingFields rule={rule} onChange={setRule} />
                <ul className="max-h-56 overflow-auto rounded-sm border border-line" aria-label="Tags to be added">
                  {list.slice(0, 300).map((l, i) => {
                    const wrong = problem?.fields?.[`tags.${i}.name`] ?? problem?.fields?.[`tags.${i}.address`]
                    return (
                      <li key={l.address} className="flex items-baseline gap-2 border-b border-line/60 px-2 py-[3px] last:border-0">
                        <span className="min-w-0 flex-1 break-words">
                          {proposeName(l.levels, rule)}
                          {wrong && <span className="block text-xs text-bad">{wrong}</span>}
                        </span>
                        <span className="max-w-24 truncate font-mono text-xs text-muted">{l.value}</span>
                      </li>
                    )
                  })}
                </ul>
              </>
            )}
            {one && (
              <>
                <Heading>Last message</Heading>
                <Fact name="Topic">{one.topic}</Fact>
                <Fact name="Looks like">{formats[one.format]}</Fact>
                <Fact name="Messages">
                  {countText(one.count)}
                  {one.rate > 0 && `, ${one.rate.toFixed(one.rate < 10 ? 1 : 0)}/s`}
                  {one.retained && ', retained'}
                </Fact>
                <Fact name="Size">{bytesText(one.bytes)}</Fact>
                {one.sample !== '' && <Payload text={one.sample} />}
              </>
            )}
          </>
        }
      >
        {heard.problem ? (
          <div className="p-4">
            <ProblemNote
              problem={heard.problem}
              action={<Button onClick={() => heard.start(source.id, filters.trim(), duration ?? 20)}>Listen again</Button>}
            />
          </div>
        ) : heard.topics.size === 0 ? (
          <Empty title={heard.busy ? 'Listening ...' : 'Which topics are there?'}>
            {heard.busy
              ? 'Topics show here as soon as a message comes on them.'
              : 'A broker keeps no list of its topics. Listen for a while: those that something is said on show here, with what was said.'}
          </Empty>
        ) : (
          <>
            <div className="flex shrink-0 items-center gap-2 border-b border-line px-2.5 py-[6px]">
              <FilterBox value={words} onChange={setWords} placeholder="filter topics and names" />
              <span className="ml-auto font-mono text-[12px] text-muted">{countText(heard.topics.size)} topics</span>
            </div>
            <VirtualTree
              label="Topics"
              rows={rows}
              onToggle={(r) =>
                setClosed((old) => {
                  const next = new Set(old)
                  if (!next.delete(r.id)) next.add(r.id)
                  return next
                })
              }
              onTick={(r, on) => r.leaf && pick([r.leaf], on)}
              onCursor={(r) => r.heard && setShown(r.heard.topic)}
              empty={<p className="p-4 text-muted">No topic fits the filter.</p>}
            >
              {(r) => (
                <>
                  <span className={`truncate ${r.leaf ? '' : 'font-semibold'}`}>{r.label}</span>
                  {r.leaf && taken.has(r.leaf.address) && <span className="truncate text-xs text-muted">is {taken.get(r.leaf.address)}</span>}
                  <span className="ml-auto flex items-center gap-2">
                    {r.leaf ? (
                      <span className="max-w-40 truncate font-mono text-xs text-muted">
                        {r.leaf.value} {r.leaf.unit}
                      </span>
                    ) : (
                      <>
                        {r.heard && <span className="text-xs text-muted">{formats[r.heard.format]}</span>}
                        <Button
                          small
                          kind="quiet"
                          tabIndex={-1}
                          className="opacity-0 group-hover:opacity-100 focus:opacity-100"
                          aria-label={`Take all under ${r.label}`}
                          onClick={() => pick(underOf(r.id), true)}
                        >
                          take all {r.under}
                        </Button>
                      </>
                    )}
                  </span>
                </>
              )}
            </VirtualTree>
          </>
        )}
      </ThreeParts>
    </>
  )
}

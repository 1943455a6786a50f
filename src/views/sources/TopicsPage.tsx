import { useDeferredValue, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Source } from '~/contract/source'
import { type NamingRule, proposeName } from '~/core/source/naming'
import { Button } from '~/ui/Button'
import { Choice, FilterBox } from '~/ui/Field'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { Middle, ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { useFilterInAddress, useTextInAddress } from '../app/address'
import { call, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { Failed } from '../shared/Failed'
import { EmptyStation } from '../shared/Onward'
import { useWork } from '../shared/useWork'
import { SourceSelect } from './SourceSelect'
import { FamilyList, type FamilyPicking } from './topics/FamilyList'
import { familyOfTopic, type HeardFamily, heardFamilies, leafName, roleOf } from './topics/heard-families'
import { ListenFields, type Shown } from './topics/ListenFields'
import { SingleTopics } from './topics/SingleTopics'
import { TopicsPeek } from './topics/TopicsPeek'
import type { TopicLeaf } from './topics/topic-tree'
import { type Listening, useListening } from './topics/useListening'
import { usePicked } from './usePicked'

type MqttSource = Extract<Source, { kind: 'mqtt' }>

export function TopicsPage() {
  const sources = useCall('listSources')
  const [sourceId, setSourceId] = useTextInAddress('source')
  if (!sources.data)
    return (
      <>
        <Row station="sources" page="Topics" />
        <Middle>{sources.error ? <Failed of={sources} /> : <Loading />}</Middle>
      </>
    )
  const list = sources.data.filter((s) => s.kind === 'mqtt')
  const source = list.find((s) => s.id === sourceId) ?? list[0]
  if (source) return <Listen key={source.id} source={source} sources={list} onSource={setSourceId} />
  return (
    <>
      <Row station="sources" page="Topics" />
      <Middle>
        <EmptyStation
          needs="engineer"
          title="No source of topics yet"
          action={
            <a className="text-slate underline" href="/sources?add">
              Add a source
            </a>
          }
        >
          Where devices publish on a broker by themselves, tags are made from the topics that they speak on.
        </EmptyStation>
      </Middle>
    </>
  )
}

function Listen({ source, sources, onSource }: { source: MqttSource; sources: MqttSource[]; onSource(id: string): void }) {
  const mayEdit = useMay('engineer')
  const tags = useCall('listTags', { query: { source: source.id } })
  const [filters, setFilters] = useFilterInAddress('filters')
  const [seconds, setSeconds] = useState('20')
  const heard = useListening()
  const [words, setWords] = useFilterInAddress()
  const [only, setOnly] = useTextInAddress('only')
  const [as, setAs] = useTextInAddress('as')
  const [open, setOpen] = useTextInAddress('family')
  const [topic, setTopic] = useTextInAddress('topic')
  const taken = useMemo(() => new Map((tags.data ?? []).map((t) => [t.address, t.name])), [tags.data])
  const choice = usePicked<TopicLeaf>(`topics ${source.id}`, taken)
  const adding = useAdding(source.id, [...choice.picked.values()], choice.clear)
  const sought = words.trim().toLowerCase()
  // While messages come in, what was found stays on the screen until the next is ready.
  const [topics, filter] = [useDeferredValue(heard.topics), useDeferredValue(sought)]
  const families = useMemo(() => heardFamilies(topics.values(), filter), [topics, filter])
  const role = (leaf: TopicLeaf) => roleOf(leafName(leaf), source.settings)
  const whole = (family: HeardFamily) => family.topics.flatMap((t) => [...t.byName.values()].filter((leaf) => role(leaf) === null))
  const isTaken = (family: HeardFamily) => whole(family).length > 0 && whole(family).every((leaf) => taken.has(leaf.address))
  const shown = (only ?? 'all') as Shown
  const listed = families.filter((f) => shown === 'all' || (shown === 'taken' ? isTaken(f) : f.carries === shown))
  const openFamily = familyOfTopic(families, open)
  const picking: FamilyPicking = { picked: choice.picked, taken, pick: choice.pick, role, whole }
  const duration = Number(seconds) >= 1 && Number(seconds) <= 600 ? Number(seconds) : null
  const start = () => heard.start(source.id, filters.trim(), duration ?? 20)
  return (
    <>
      <Row station="sources" page="Topics">
        {heard.busy ? (
          <Button onClick={heard.stop}>Stop listening</Button>
        ) : (
          <Button kind="main" disabled={!mayEdit || duration === null} title={mayEdit ? '' : 'Needs the role engineer'} onClick={start}>
            {heard.topics.size > 0 ? 'Listen again' : 'Listen'}
          </Button>
        )}
      </Row>
      <ThreeParts
        id="topics"
        peekWidth={340}
        left={
          <div className="px-3 py-1 [&>div]:grid-cols-1">
            <SourceSelect sources={sources} value={source.id} onChange={onSource} />
            <ListenFields
              settings={source.settings}
              filters={filters}
              onFilters={setFilters}
              seconds={seconds}
              onSeconds={setSeconds}
              duration={duration}
              heard={heard}
              families={families}
              taken={families.filter(isTaken).length}
              shown={shown}
              onShown={(kind) => setOnly(kind === 'all' ? null : kind)}
            />
          </div>
        }
        peek={
          <TopicsPeek
            list={adding.list}
            rule={adding.rule}
            onRule={adding.setRule}
            one={topic === null ? undefined : heard.topics.get(topic)}
            problem={adding.problem}
            mayEdit={mayEdit}
            adding={adding.busy}
            onAdd={() => void adding.add()}
            onClear={choice.clear}
          />
        }
      >
        {heard.problem ? (
          <div className="p-4">
            <ProblemNote problem={heard.problem} action={<Button onClick={start}>Listen again</Button>} />
          </div>
        ) : tags.error ? (
          <Failed of={tags} />
        ) : heard.topics.size === 0 || !tags.data ? (
          <Silent heard={heard} />
        ) : (
          <>
            <div className="flex shrink-0 items-center gap-2 border-b border-line px-2.5 py-[6px]">
              <FilterBox value={words} onChange={setWords} placeholder="filter topics and names" />
              <Choice
                label="Topics"
                value={as === 'single' ? 'single' : 'families'}
                options={[
                  { value: 'families', label: 'Families' },
                  { value: 'single', label: 'Single topics' },
                ]}
                onChange={(next) => setAs(next === 'single' ? next : null)}
              />
              <span className="ml-auto font-mono text-[12px] text-muted">
                {countText(heard.topics.size)} topics in {families.length === 1 ? '1 family' : `${countText(families.length)} families`}
              </span>
            </div>
            {as === 'single' ? (
              <SingleTopics topics={heard.topics} words={sought} picked={choice.picked} taken={taken} pick={choice.pick} onTopic={setTopic} />
            ) : listed.length === 0 ? (
              <p className="p-4 text-muted">No topic fits.</p>
            ) : (
              <FamilyList
                families={listed}
                open={openFamily?.id ?? null}
                onOpen={(id) => {
                  const family = families.find((f) => f.id === id)
                  setOpen(family?.topics[0]?.topic ?? null)
                  if (family && familyOfTopic(families, topic) !== family) setTopic(family.topics[0]!.topic)
                }}
                onTopic={setTopic}
                shown={topic}
                picking={picking}
              />
            )}
          </>
        )}
      </ThreeParts>
    </>
  )
}

function Silent({ heard }: { heard: Listening }) {
  return (
    <Empty title={heard.busy ? 'Listening ...' : 'Which topics are there?'}>
      {heard.busy
        ? 'Topics show here as soon as a message comes on them.'
        : 'A broker keeps no list of its topics. Listen for a while: those that something is said on show here, with what was said.'}
    </Empty>
  )
}

/** Makes tags of the chosen leaves, named by a rule; what is refused stays chosen. */
function useAdding(sourceId: string, list: readonly TopicLeaf[], onAdded: () => void) {
  const [rule, setRule] = useState<NamingRule>({ drop: 0, before: '' })
  const { busy, problem, run } = useWork()
  const add = () =>
    run(async () => {
      const tags = list.map((leaf) => ({
        name: proposeName(leaf.levels, rule),
        sourceId,
        address: leaf.address,
        dataType: leaf.dataType,
        unit: leaf.unit,
      }))
      const made = await call('addTags', { body: { tags } })
      await refresh('listTags', 'listSources')
      onAdded()
      toast.success(`${countText(made.length)} ${made.length === 1 ? 'tag' : 'tags'} added`)
    })
  return { list, rule, setRule, busy, problem, add }
}

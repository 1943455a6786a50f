import type { HeardTopic } from '~/contract/sources/mqtt'
import { type NamingRule, proposeName } from '~/core/source/naming'
import { Button } from '~/ui/Button'
import { Fact, Heading, type Problem, ProblemNote } from '~/ui/Notes'
import { bytesText, countText } from '~/ui/time'
import { Payload } from '../../shared/Payload'
import { NamingFields } from '../NamingFields'
import type { TopicLeaf } from './topic-tree'

const formats: Record<HeardTopic['format'], string> = {
  number: 'number',
  boolean: 'true or false',
  text: 'text',
  json: 'JSON',
  sparkplug: 'Sparkplug B',
  bytes: 'bytes',
  empty: 'empty',
}

/** So many names stand in the list. */
const NAMED = 300

interface Props {
  list: readonly TopicLeaf[]
  rule: NamingRule
  onRule(rule: NamingRule): void
  /** The topic that is looked at. */
  one: HeardTopic | undefined
  problem: (Problem & { fields?: Record<string, string> | undefined }) | null
  mayEdit: boolean
  adding: boolean
  onAdd(): void
  onClear(): void
}

/** What would become tags, with their names; and the last message of the topic that is looked at. */
export function TopicsPeek({ list, rule, onRule, one, problem, mayEdit, adding, onAdd, onClear }: Props) {
  return (
    <>
      <div className="flex items-center justify-between">
        <h2 className="text-[15px] font-semibold">{list.length === 0 ? 'Nothing chosen yet' : `${countText(list.length)} chosen`}</h2>
        <Button kind="main" disabled={list.length === 0 || !mayEdit} busy={adding} onClick={onAdd}>
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
          <NamingFields rule={rule} onChange={onRule} />
          <ul className="max-h-56 overflow-auto rounded-sm border border-line" aria-label="Tags to be added">
            {list.slice(0, NAMED).map((l, i) => {
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
          <div className="flex items-center justify-between pt-1 text-xs text-muted">
            <span>{list.length > NAMED && `and ${countText(list.length - NAMED)} more`}</span>
            <Button small kind="quiet" onClick={onClear}>
              Choose none
            </Button>
          </div>
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
  )
}

import { filtersOf, type MqttSourceSettings } from '~/contract/sources/mqtt'
import { TextField } from '~/ui/Field'
import { Heading } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { carriedKinds, carriedWords, type HeardFamily } from './heard-families'
import type { Listening } from './useListening'

/** What can be shown of the families: all, one kind of payload, or what is tags already. */
export type Shown = 'all' | (typeof carriedKinds)[number] | 'taken'

interface Props {
  settings: MqttSourceSettings
  filters: string
  onFilters(text: string): void
  seconds: string
  onSeconds(text: string): void
  /** How long is listened, s; null: what is typed is none. */
  duration: number | null
  heard: Listening
  families: readonly HeardFamily[]
  /** How many families are tags already. */
  taken: number
  shown: Shown
  onShown(shown: Shown): void
}

/** On what is listened and for how long, and the kinds of what was heard. */
export function ListenFields({ settings, filters, onFilters, seconds, onSeconds, duration, heard, families, taken, shown, onShown }: Props) {
  const kinds = carriedKinds
    .map((kind) => ({ kind: kind as Shown, label: carriedWords[kind], count: families.filter((f) => f.carries === kind).length }))
    .filter((k) => k.count > 0)
  const choices = [
    { kind: 'all' as Shown, label: 'All families', count: families.length },
    ...kinds,
    { kind: 'taken' as Shown, label: 'Tags already', count: taken },
  ]
  return (
    <>
      <TextField
        label="Listen on"
        mono
        value={filters}
        placeholder={filtersOf(settings.filters).join(' ')}
        help="Empty: the filters of the source. A tag outside of those is never heard"
        onChange={(e) => onFilters(e.target.value)}
      />
      <TextField
        label="For"
        mono
        unit="s"
        value={seconds}
        error={duration === null ? 'From 1 to 600 s' : undefined}
        onChange={(e) => onSeconds(e.target.value)}
      />
      {(heard.busy || heard.messages > 0) && (
        <div>
          <Heading level={2}>Heard</Heading>
          <div className="my-1 h-[5px] overflow-hidden rounded-sm bg-well" aria-hidden="true">
            <div className="h-full bg-clay" style={{ width: `${Math.min(100, (100 * heard.elapsedS) / (duration ?? 20))}%` }} />
          </div>
          <p className="text-muted" role="status">
            {countText(heard.messages)} messages on {countText(heard.topics.size)} topics in {Math.round(heard.elapsedS)} s
          </p>
          {heard.more && <p className="text-uncertain">More topics than are kept here: narrow the filters.</p>}
        </div>
      )}
      {families.length > 0 && (
        <ul className="mt-2 border-t border-line pt-2" aria-label="Kinds of families">
          {choices.map(({ kind, label, count }) => (
            <li key={kind}>
              <button
                type="button"
                aria-pressed={shown === kind}
                onClick={() => onShown(kind)}
                className={`flex w-full items-baseline justify-between rounded-sm px-1.5 py-[3px] text-left ${shown === kind ? 'bg-wash font-semibold' : 'hover:bg-well/60'}`}
              >
                {label}
                <span className="font-mono text-[12.5px] text-muted">{countText(count)}</span>
              </button>
            </li>
          ))}
        </ul>
      )}
    </>
  )
}

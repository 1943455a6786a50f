import { useDeferredValue, useMemo, useState } from 'react'
import type { Outside, Tag } from '~/contract/tag'
import { folderOf, leafOf } from '~/core/tag/view'
import { TextField } from '~/ui/Field'
import { type ListColumn, ListTable } from '~/ui/ListTable'
import { Modal } from '~/ui/Modal'
import { Heading, Loading, ProblemNote } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { useCall } from '../../app/api'
import { Failed } from '../../shared/Failed'
import { PlanTable } from './PlanTable'
import type { Around } from './planning.worker'
import { useApply } from './useApply'
import { usePlan } from './usePlan'

/** What is renamed or moved: a folder with all that lies under it, or chosen tags. */
export type Moved = { folder: string } | { tags: readonly Tag[] }

/** New name of a tag, or new folder for many; references hold by id, and what is seen outside is shown before and after. */
export function MoveDialog({ moved, tags, plain, onClose }: { moved: Moved; tags: readonly Tag[]; plain: Around; onClose(): void }) {
  const chosen = useMemo(() => ('folder' in moved ? tags.filter((t) => t.name.startsWith(`${moved.folder}/`)) : moved.tags), [moved, tags])
  const one = 'tags' in moved && chosen.length === 1
  const [to, setTo] = useState(() => ('folder' in moved ? moved.folder : one ? chosen[0]!.name : commonFolder(chosen)))
  const typed = useDeferredValue(to).trim()
  const names = useMemo(
    () =>
      chosen.map((t) => ({
        id: t.id,
        name:
          'folder' in moved
            ? [typed, t.name.slice(moved.folder.length + 1)].filter(Boolean).join('/')
            : one
              ? typed
              : [typed, leafOf(t.name)].filter(Boolean).join('/'),
      })),
    [chosen, moved, typed, one],
  )
  const task = useMemo(
    () => ({ do: 'rows' as const, heading: ['id', 'name'], rows: names.map((n, i) => ({ line: i + 1, cells: [n.id, n.name] })) }),
    [names],
  )
  const { planned, problem, progress } = usePlan(task, tags, plain)
  const { foot, note, busy } = useApply(progress ? null : (planned?.plan ?? null), onClose)
  const title =
    'folder' in moved
      ? `Rename or move the folder ${moved.folder}`
      : one
        ? `Rename or move ${chosen[0]!.name}`
        : `Move ${countText(chosen.length)} tags`
  const good = planned?.plan.counts.change ?? 0
  return (
    <Modal open onClose={() => !busy && onClose()} title={title} note="What uses these tags knows them by id: nothing breaks" width={860} foot={foot}>
      {note}
      <TextField
        label={one ? 'New name' : 'folder' in moved ? 'New path' : 'Into folder'}
        autoFocus
        value={to}
        onChange={(e) => setTo(e.target.value)}
        help={one ? 'Folders and name, parted by slashes' : 'Empty: at the top'}
      />
      <div className="mt-1 min-h-[336px]">
        {problem && <ProblemNote problem={problem} />}
        {planned && <PlanTable plan={planned.plan} lines={false} />}
      </div>
      {good > 0 && <OutsidePart names={names} />}
    </Modal>
  )
}

function commonFolder(tags: readonly Tag[]): string {
  const folders = new Set(tags.map((t) => folderOf(t.name)))
  return folders.size === 1 ? [...folders][0]! : ''
}

const arrow = (before: string, after: string) => (before === after ? `${before} (stays)` : `${before} → ${after}`)

const columns: ListColumn<Outside['places'][number]>[] = [
  { key: 'tag', head: 'Tag', width: '24%', cell: (p) => leafOf(p.tag), tip: (p) => p.tag },
  {
    key: 'publication',
    head: 'Publication',
    width: '20%',
    cell: (p) => (
      <>
        {p.publication} {p.live && <span className="text-good">live</span>}
      </>
    ),
    tip: (p) => p.publication,
  },
  {
    key: 'topic',
    head: 'Topic, before and after',
    mono: true,
    cell: (p) => arrow(p.topic, p.topicAfter),
    tip: (p) => `${p.topic} → ${p.topicAfter}`,
  },
  { key: 'key', head: 'Name in the payload', width: '20%', mono: true, cell: (p) => arrow(p.key, p.keyAfter), tip: (p) => arrow(p.key, p.keyAfter) },
]

/** Topics and names in payloads before and after. */
function OutsidePart({ names }: { names: { id: string; name: string }[] }) {
  const valid = useMemo(() => names.filter((n) => n.name !== '' && n.name.length <= 120 && !n.name.split('/').some((p) => p.trim() === '')), [names])
  const outside = useOutside(valid)
  if (outside.error) return <Failed of={outside} flush />
  if (!outside.data) return <Loading rows={2} label="What is seen outside" />
  const { carried, changed, places } = outside.data
  const look = changed > 0 ? places.filter((p) => p.topic !== p.topicAfter || p.key !== p.keyAfter) : places
  return (
    <section aria-label="Seen outside" data-outside>
      <Heading>What receivers see</Heading>
      <p className={changed > 0 ? 'text-bad' : 'text-muted'}>
        {carried === 0
          ? 'No publication carries these tags: outside nothing changes.'
          : changed === 0
            ? `${countText(carried)} of these ${carried === 1 ? 'tags is' : 'tags are'} sent, under names of equipment and members: topics and payloads stay as they are.`
            : `${countText(changed)} topics or names in payloads change. Receivers that look for the old ones find them no more.`}
      </p>
      {look.length > 0 && (
        <ListTable
          label="Topics and names before and after"
          dense
          fixed
          className="mt-1 text-[12.5px]"
          rows={look.slice(0, 50)}
          columns={columns}
          rowKey={(p) => `${p.publication} ${p.topic} ${p.key}`}
        />
      )}
      {look.length > 50 && <p className="text-muted">and {countText(look.length - 50)} more</p>}
    </section>
  )
}

function useOutside(names: { id: string; name: string }[]) {
  return useCall('renamedOutside', { body: { names }, enabled: names.length > 0 })
}

import { type FormEvent, useRef, useState } from 'react'
import type { Source } from '~/contract/source'
import type { Tag } from '~/contract/tag'
import { showAddress } from '~/core/source/address'
import type { Surroundings } from '~/core/tag/columns'
import { sentencesOf } from '~/core/tag/sentences'
import { Button } from '~/ui/Button'
import { Heading } from '~/ui/Notes'
import { useCall } from '../../app/api'
import { ConflictNote, KeptNote } from '../../shared/DraftNotes'
import { EditOutside } from './EditOutside'
import { Effect } from './Effect'
import { SentenceRow } from './SentenceRow'
import { columnOf, useProperties } from './useProperties'

const labels = (key: string) => columnOf(key).label

/** The properties of a tag as sentences; every dotted word opens where it stands. */
export function TagSentences({ tag, source, around, mayEdit }: { tag: Tag; source: Source | undefined; around: Surroundings; mayEdit: boolean }) {
  const properties = useProperties(tag, around)
  const { cell, dirty, changed, faults, conflicts } = properties
  const groups = useCall('listGroups')
  const [open, setOpen] = useState<readonly string[]>([])
  const list = useRef<HTMLFormElement>(null)
  const sentences = sentencesOf(cell, {
    kind: source?.kind,
    sourceRateMs: source && 'rateMs' in source.settings ? source.settings.rateMs : null,
    groupRateMs: groups.data?.find((g) => g.name === cell('group'))?.sampleMs ?? null,
    address: showAddress(source, cell('address')),
  })
  const shown = new Set(sentences.flatMap((s) => s.pieces.flatMap((piece) => (typeof piece === 'string' ? [] : piece.keys))))
  // A fault may lie in a column that no sentence shows any more.
  const elsewhere = Object.entries(faults).filter(([key]) => !shown.has(key) || !open.includes(key))
  const close = (keys: readonly string[]) => {
    setOpen(open.filter((key) => !keys.includes(key)))
    list.current?.querySelector<HTMLElement>(`[data-word~="${keys[0]}"]`)?.focus()
  }
  const save = async (e: FormEvent) => {
    e.preventDefault()
    const from = open
    if (!(await properties.save())) return
    close(from)
    setOpen([])
  }
  return (
    <form ref={list} aria-label={`Properties of ${tag.name}`} data-sentences onSubmit={(e) => void save(e)}>
      <Heading aside={mayEdit ? <span className="text-xs text-muted">a dotted word opens</span> : undefined}>Properties</Heading>
      {properties.keptAt !== null && <KeptNote at={properties.keptAt} onForget={properties.forget} />}
      {conflicts.length > 0 && (
        <ConflictNote
          differ={conflicts}
          labels={Object.fromEntries(conflicts.map((c) => [c.path, labels(c.path)]))}
          onTheirs={properties.takeTheirs}
          onMine={properties.takeMine}
        />
      )}
      <div className="rounded-sm border border-line">
        {sentences.map((sentence) => (
          <SentenceRow
            key={sentence.topic}
            sentence={sentence}
            properties={properties}
            open={open}
            onOpen={setOpen}
            onClose={close}
            mayEdit={mayEdit}
          >
            <Effect topic={sentence.topic} tag={tag} properties={properties} />
          </SentenceRow>
        ))}
      </div>
      {dirty && (
        <>
          <EditOutside tag={tag} properties={properties} />
          <div className="sticky -bottom-3 z-10 flex flex-wrap items-center justify-end gap-2 border-t border-line bg-sheet py-2">
            <span className="mr-auto text-xs text-muted">
              {changed.length === 1 ? '1 change: ' : `${changed.length} changes: `}
              {changed.map((key) => labels(key).toLowerCase()).join(', ')}
            </span>
            {elsewhere.length > 0 && (
              <span role="alert" className="w-full text-xs text-bad">
                {elsewhere.map(([key, reason]) => `${labels(key)}: ${reason}`).join('; ')}
              </span>
            )}
            <Button small onClick={properties.forget}>
              Discard changes
            </Button>
            <Button
              small
              kind="main"
              type="submit"
              busy={properties.busy}
              disabled={properties.planned.state === 'faulty' || conflicts.length > 0}
              title={conflicts.length > 0 ? 'First choose whose text stays' : undefined}
            >
              Save
            </Button>
          </div>
        </>
      )}
    </form>
  )
}

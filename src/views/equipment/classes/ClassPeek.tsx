import { useMemo, useState } from 'react'
import { ClassDraft, type ClassInput, type EquipmentClass } from '~/contract/equipment'
import { type ClassChange, classChanges } from '~/core/equipment/class-diff'
import { classSchema } from '~/core/equipment/class-schema'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Heading } from '~/ui/Notes'
import { Time } from '~/ui/time'
import { useCall } from '../../app/api'
import { Payload } from '../../shared/Payload'
import { fileNameOf, saveFile } from '../../shared/save-file'
import { OutsideNote } from '../OutsideNote'
import { useModel } from '../useModel'

/** What a save would change and break, what earlier versions changed, and the class as a JSON Schema. */
export function ClassPeek({
  cls,
  draft,
  classes,
}: {
  cls: EquipmentClass | null
  draft: ClassInput | null
  classes: ReadonlyMap<string, EquipmentClass>
}) {
  const name = (id: string) => classes.get(id)?.name ?? 'a class that is gone'
  const parsed = useMemo(() => (draft ? ClassDraft.safeParse(draft) : null), [draft])
  const changes = cls && parsed?.success ? classChanges(cls, parsed.data, name) : []
  return (
    <>
      {cls && draft && (
        <section aria-label="What this changes" className="mb-4">
          <h2 className="text-[15px] font-semibold">What this changes</h2>
          {parsed && !parsed.success && <p className="text-muted">{parsed.error.issues[0]?.message}</p>}
          <Changes changes={changes} />
          {parsed?.success && changes.length > 0 && <Outside cls={cls} draft={parsed.data} />}
        </section>
      )}
      {cls && <Versions cls={cls} name={name} />}
      {cls && <Schema cls={cls} classes={classes} />}
      {!cls && <p className="text-muted">A new class: its members, and then equipment of it under Plant.</p>}
    </>
  )
}

function Outside({ cls, draft }: { cls: EquipmentClass; draft: ClassDraft }) {
  const { model, pending } = useModel()
  return pending ? null : <OutsideNote model={model} classes={[{ ...cls, ...draft }]} />
}

const breaks = {
  receivers: { text: 'breaks receivers', tone: 'text-bad' },
  equipment: { text: 'asks for more', tone: 'text-uncertain' },
}

function Changes({ changes }: { changes: readonly ClassChange[] }) {
  if (changes.length === 0) return <p className="text-muted">Nothing that anybody notices.</p>
  return (
    <ul>
      {changes.map((c, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a list that is made anew each time
        <li key={i} className="flex items-baseline gap-2 border-b border-line py-1">
          <span className="shrink-0">
            {c.breaks ? (
              <Glyph state={c.breaks === 'receivers' ? 'bad' : 'uncertain'} title={breaks[c.breaks].text} />
            ) : (
              <span className="inline-block w-[14px]" />
            )}
          </span>
          <span>
            {c.member && <span className="font-semibold">{c.member} </span>}
            {c.text}
            {c.breaks && <span className={`ml-1.5 text-xs ${breaks[c.breaks].tone}`}>{breaks[c.breaks].text}</span>}
          </span>
        </li>
      ))}
    </ul>
  )
}

function Versions({ cls, name }: { cls: EquipmentClass; name(id: string): string }) {
  const versions = useCall('classVersions', { params: { id: cls.id } })
  const [open, setOpen] = useState<number | null>(null)
  const list = versions.data ?? []
  return (
    <section aria-label="Versions">
      <Heading level={2}>Versions</Heading>
      {list.map((v, i) => {
        const before = list[i + 1]
        const changes = before ? classChanges(before.draft, v.draft, name) : []
        const broken = changes.some((c) => c.breaks === 'receivers')
        return (
          <div key={v.version} className="border-b border-line">
            <button
              type="button"
              disabled={!before}
              aria-expanded={open === v.version}
              className="flex w-full items-baseline gap-2 py-1 text-left enabled:hover:bg-well/60"
              onClick={() => setOpen(open === v.version ? null : v.version)}
            >
              <span className="font-mono text-[12.5px]">{v.version}</span>
              <span className="text-muted">{v.by}</span>
              {broken && <Glyph state="bad" title="breaks receivers" />}
              <span className="ml-auto">
                <Time at={v.at} date />
              </span>
            </button>
            {open === v.version && (
              <div className="pb-2 pl-4">
                <Changes changes={changes} />
              </div>
            )}
          </div>
        )
      })}
    </section>
  )
}

function Schema({ cls, classes }: { cls: EquipmentClass; classes: ReadonlyMap<string, EquipmentClass> }) {
  const text = useMemo(() => JSON.stringify(classSchema(cls, classes), null, 2), [cls, classes])
  const name = `${fileNameOf(cls.name)}.schema.json`
  const save = () => saveFile(name, new Blob([text], { type: 'application/schema+json' }))
  return (
    <section aria-label="JSON Schema">
      <Heading
        aside={
          <Button small kind="quiet" onClick={save}>
            Download
          </Button>
        }
      >
        JSON Schema
      </Heading>
      <Payload text={text} />
    </section>
  )
}

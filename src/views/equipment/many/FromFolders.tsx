import { useMemo, useState } from 'react'
import type { Equipment, Level } from '~/contract/equipment'
import { fromFolder, placed } from '~/core/equipment/from-folders'
import { byName } from '~/core/equipment/hierarchy'
import { Button } from '~/ui/Button'
import { SelectField, TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { Heading, ProblemNote } from '~/ui/Notes'
import { call, refresh } from '../../app/api'
import { useWork } from '../../shared/useWork'
import { equipmentEdits } from '../edits'
import type { PlantModel } from '../useModel'
import { PlaceFields } from './PlaceFields'

const below: Record<Level, Level> = { enterprise: 'site', site: 'area', area: 'work centre', 'work centre': 'work unit', 'work unit': 'work unit' }

/** Makes a class and its equipment from a folder of tags and those beside it that are built alike. */
export function FromFolders({
  model,
  under,
  onClose,
  onMade,
}: {
  model: PlantModel
  under: Equipment | null
  onClose(): void
  onMade(id: string): void
}) {
  // Beside what is chosen, when that is equipment itself and no place for others.
  const at = under?.classId && under.parentId ? model.equipment.get(under.parentId)! : under
  const folders = useMemo(() => {
    const all = new Map<string, number>()
    for (const t of model.tagList) {
      const cut = t.name.lastIndexOf('/')
      if (cut > 0) all.set(t.name.slice(0, cut), (all.get(t.name.slice(0, cut)) ?? 0) + 1)
    }
    return [...all].sort((a, b) => byName(a[0], b[0]))
  }, [model.tagList])
  const [folder, setFolder] = useState(folders[0]?.[0] ?? '')
  const proposal = useMemo(() => (folder ? fromFolder(folder, model.tagList) : null), [folder, model.tagList])
  const [name, setName] = useState<string | null>(null)
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set())
  const [parentId, setParent] = useState(at?.id ?? '')
  const [level, setLevel] = useState<Level>(at ? below[at.level] : 'enterprise')
  const { busy, problem, run } = useWork()
  const className = name ?? proposal?.cls.name ?? ''
  const beside = useMemo(() => new Set(model.list.filter((e) => e.parentId === (parentId || null)).map((e) => e.name)), [model.list, parentId])
  const chosen = (proposal?.equipment ?? []).filter((e) => !left.has(e.folder) && !beside.has(e.name))

  const make = () =>
    run(async () => {
      if (!proposal) return
      const cls = await call('addClass', { body: { ...proposal.cls, name: className } })
      await refresh('listClasses')
      const rows = placed(chosen, cls.id, parentId, level)
      try {
        if (rows.length > 0) await equipmentEdits.apply({ add: rows }, `${rows.length} ${className} made`)
      } catch (e) {
        // The class alone is not what was asked for.
        await call('removeClass', { params: { id: cls.id } })
        await refresh('listClasses')
        throw e
      }
      if (rows[0]) onMade(rows[0].id)
      onClose()
    })
  return (
    <Modal
      open
      onClose={onClose}
      width={860}
      title="Equipment from a branch of tags"
      note="A folder of tags proposes a class; folders beside it that are built alike become equipment of it, bound"
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={!proposal || className.trim() === '' || parentId === ''} onClick={() => void make()}>
            Make the class and {chosen.length}
          </Button>
        </>
      }
    >
      {folders.length === 0 ? (
        <p className="text-muted">No tag lies in a folder: browse a source and add a branch of it first.</p>
      ) : (
        <div className="grid grid-cols-2 gap-5">
          <div>
            <SelectField
              label="Folder"
              value={folder}
              onChange={(e) => {
                setFolder(e.target.value)
                setName(null)
                setLeft(new Set())
              }}
            >
              {folders.map(([path, n]) => (
                <option key={path} value={path}>
                  {path} ({n})
                </option>
              ))}
            </SelectField>
            <TextField label="Class" value={className} onChange={(e) => setName(e.target.value)} />
            <PlaceFields
              list={model.list}
              byId={model.equipment}
              classes={[]}
              parentId={parentId}
              level={level}
              onParent={setParent}
              onLevel={setLevel}
            />
            {problem && <ProblemNote problem={problem} />}
            <Heading>Members</Heading>
            <ul className="max-h-60 overflow-auto rounded-sm border border-line bg-sheet py-1" aria-label="Proposed members">
              {proposal?.cls.members.map((m) => (
                <li key={m.key} className="flex gap-2 px-2 leading-6">
                  <span className="min-w-0 flex-1 truncate">{m.label}</span>
                  <code className="font-mono text-[12px] text-muted">{m.key}</code>
                  <span className="w-14 text-muted">{m.dataType}</span>
                  <span className="w-12 text-muted">{m.unit}</span>
                </li>
              ))}
            </ul>
          </div>
          <div>
            <Heading>Equipment</Heading>
            <ul className="max-h-[420px] overflow-auto rounded-sm border border-line bg-sheet py-1" aria-label="Proposed equipment">
              {proposal?.equipment.map((e) => (
                <li key={e.folder} className="px-2 py-0.5">
                  <label className="flex items-center gap-2">
                    <input
                      type="checkbox"
                      className="accent-(--clay)"
                      disabled={beside.has(e.name)}
                      checked={!left.has(e.folder) && !beside.has(e.name)}
                      onChange={(x) => {
                        const next = new Set(left)
                        if (x.target.checked) next.delete(e.folder)
                        else next.add(e.folder)
                        setLeft(next)
                      }}
                    />
                    <span className="font-semibold">{e.name}</span>
                    <span className="ml-auto text-xs text-muted">
                      {beside.has(e.name) ? 'is there already' : `${Object.keys(e.bindings).length} filled`}
                    </span>
                  </label>
                  {e.missing.length > 0 && <div className="pl-5 text-xs text-uncertain">without {e.missing.join(', ')}</div>}
                  {e.extra.length > 0 && <div className="pl-5 text-xs text-muted">not taken: {e.extra.join(', ')}</div>}
                </li>
              ))}
            </ul>
          </div>
        </div>
      )}
    </Modal>
  )
}

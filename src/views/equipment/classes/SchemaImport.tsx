import { useMemo, useState } from 'react'
import { toast } from 'sonner'
import { type ReadSchema, readClassSchema } from '~/core/equipment/class-schema'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { Heading, ProblemNote, WarnNote } from '~/ui/Notes'
import { call, refresh } from '../../app/api'
import { useWork } from '../../shared/useWork'

/** Makes classes from a JSON Schema; what cannot be taken over is told before anything is made. */
export function SchemaImport({ onClose, onMade }: { onClose(): void; onMade(id: string): void }) {
  const [text, setText] = useState('')
  const { busy, problem, run } = useWork()
  const read = useMemo<ReadSchema | { message: string } | null>(() => {
    if (text.trim() === '') return null
    try {
      return readClassSchema(text)
    } catch (e) {
      return { message: e instanceof Error ? e.message.split('\n')[0]! : String(e) }
    }
  }, [text])
  const good = read && 'classes' in read ? read : null
  const make = () =>
    run(async () => {
      if (!good) return
      const ids = new Map<string, string>()
      const made: string[] = []
      try {
        for (const { id, ...c } of good.classes) {
          const real = (x: string | null | undefined) => (x ? (ids.get(x) ?? x) : null)
          const body = { ...c, extendsId: real(c.extendsId), members: c.members.map((m) => ({ ...m, classId: real(m.classId) })) }
          const saved = await call('addClass', { body })
          ids.set(id, saved.id)
          made.push(saved.id)
        }
        await refresh('listClasses')
        toast.success(`${made.length} ${made.length === 1 ? 'class' : 'classes'} made`)
        onMade(made.at(-1)!)
      } catch (e) {
        // All or none: those made so far go again, the last one first since it may hold the others.
        for (const id of made.reverse()) await call('removeClass', { params: { id } }).catch(() => undefined)
        await refresh('listClasses')
        throw e
      }
    })
  return (
    <Modal
      open
      onClose={onClose}
      width={720}
      title="Classes from a JSON Schema"
      note="Draft 2020-12: an object with properties; parts under $defs become classes of their own"
      foot={
        <>
          <label className="mr-auto">
            <input
              type="file"
              accept=".json,application/json,application/schema+json"
              aria-label="Schema file"
              onChange={(e) => void e.target.files?.[0]?.text().then(setText)}
            />
          </label>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={!good} onClick={() => void make()}>
            Make {good ? `${good.classes.length} ${good.classes.length === 1 ? 'class' : 'classes'}` : ''}
          </Button>
        </>
      }
    >
      <textarea
        aria-label="JSON Schema"
        spellCheck={false}
        rows={12}
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder='{ "title": "Box Feeder", "type": "object", "properties": { ... } }'
        className="w-full rounded-sm border border-line bg-sheet px-2 py-1 font-mono text-xs"
      />
      {read && 'message' in read && <ProblemNote problem={{ message: read.message, hint: 'Correct the schema; nothing is made' }} />}
      {problem && <ProblemNote problem={problem} />}
      {good && (
        <>
          <Heading>What is made</Heading>
          {good.classes.map((c) => (
            <div key={c.id} className="border-b border-line py-1">
              <span className="font-semibold">{c.name}</span> <span className="text-muted">{c.members.map((m) => m.key).join(', ')}</span>
            </div>
          ))}
          {good.remarks.length > 0 && (
            <div className="mt-2">
              <WarnNote>
                {good.remarks.map((r) => (
                  <div key={r}>{r}</div>
                ))}
              </WarnNote>
            </div>
          )}
        </>
      )}
    </Modal>
  )
}

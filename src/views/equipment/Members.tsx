import { useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Binding, Equipment, EquipmentClass, Member } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import { matchMembers, rankTags } from '~/core/equipment/matching'
import { formatValue } from '~/core/value/format'
import { qualityText } from '~/core/value/quality'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { call, refresh, useCall } from '../app/api'
import { useLiveValue } from '../app/live'
import { tellFailure } from '../shared/problems'
import { valueGlyph } from '../tags/quality'
import { MadeUp } from '../tags/Simulation'

/** The members of one equipment, what fills each, and its value now. */
export function Members({ equipment, cls, mayEdit }: { equipment: Equipment; cls: EquipmentClass; mayEdit: boolean }) {
  const tags = useCall('listTags')
  const [editing, setEditing] = useState<string | null>(null)
  const byId = useMemo(() => new Map((tags.data ?? []).map((t) => [t.id, t])), [tags.data])
  const hits = useMemo(() => matchMembers(equipment.name, cls.members, tags.data ?? []), [equipment.name, cls.members, tags.data])
  const fresh = [...hits].filter(([k]) => !equipment.bindings[k])

  const save = async (bindings: Equipment['bindings'], words: string, undo = true) => {
    const { id, version: _v, ...draft } = equipment
    try {
      await call('changeEquipment', { params: { id }, body: { ...draft, bindings } })
      await refresh('listEquipment', 'tagUse')
      setEditing(null)
      if (undo) toast(words, { action: { label: 'Undo', onClick: () => void save(equipment.bindings, 'as before', false) } })
    } catch (e) {
      tellFailure(e)
    }
  }
  const bind = (m: Member, binding: Binding | null) => {
    const { [m.key]: _old, ...rest } = equipment.bindings
    return save(binding ? { ...rest, [m.key]: binding } : rest, binding ? `${m.label} is bound` : `${m.label} is free`)
  }
  return (
    <>
      <table className="w-full" aria-label="Members">
        <thead>
          <tr className="border-b border-line text-left text-xs text-muted">
            <th className="py-1.5 pr-2 font-semibold">Member</th>
            <th className="px-2 font-semibold">Filled by</th>
            <th className="px-2 text-right font-semibold">Now</th>
            <th className="px-2 font-semibold">Unit</th>
            <th className="w-24" />
          </tr>
        </thead>
        <tbody>
          {cls.members.map((m) => {
            const b = equipment.bindings[m.key]
            const tag = b?.kind === 'tag' ? byId.get(b.tagId) : undefined
            return (
              <tr key={m.key} data-member={m.key} className="border-b border-line/70 align-top">
                <td className="py-1.5 pr-2 whitespace-nowrap">
                  <span className="font-semibold">{m.label}</span> <code className="font-mono text-xs text-muted">{m.key}</code>
                </td>
                <td className="px-2 py-1.5">
                  {editing === m.key ? (
                    <TagPicker
                      query={`${equipment.name} ${m.label}`}
                      tags={tags.data ?? []}
                      onPick={(t) => void bind(m, { kind: 'tag', tagId: t.id })}
                      onConstant={(value) => void bind(m, { kind: 'constant', value })}
                      onClose={() => setEditing(null)}
                      member={m}
                    />
                  ) : tag ? (
                    <a className="text-slate hover:underline" href={`/tags?tag=${tag.id}`}>
                      {tag.name} <MadeUp tag={tag} />
                    </a>
                  ) : b?.kind === 'constant' ? (
                    <span className="font-mono">{String(b.value)}</span>
                  ) : (
                    <span className="text-muted">nothing: left out of payloads</span>
                  )}
                </td>
                <td className="px-2 py-1.5 text-right whitespace-nowrap">
                  {tag ? <Now tag={tag} /> : b?.kind === 'constant' ? <span className="font-mono">{String(b.value)}</span> : null}
                </td>
                <td className="px-2 py-1.5 text-muted">
                  {m.unit}
                  {tag && tag.unit !== m.unit && (
                    <span className="text-uncertain" title={`The tag is in ${tag.unit || 'no unit'}`}>
                      {' '}
                      ≠ {tag.unit || 'none'}
                    </span>
                  )}
                </td>
                <td className="py-1 text-right whitespace-nowrap">
                  <Button
                    small
                    kind="quiet"
                    disabled={!mayEdit}
                    onClick={() => setEditing(editing === m.key ? null : m.key)}
                    aria-label={`${b ? 'Change' : 'Bind'} ${m.label}`}
                  >
                    {b ? 'change' : 'bind'}
                  </Button>
                  {b && (
                    <Button small kind="quiet" disabled={!mayEdit} onClick={() => void bind(m, null)} aria-label={`Free ${m.label}`}>
                      free
                    </Button>
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
      {cls.members.length === 0 && <p className="py-2 text-muted">The class has no members yet: add them under Classes.</p>}
      {fresh.length > 0 && (
        <div className="mt-3">
          <Button
            disabled={!mayEdit}
            onClick={() =>
              void save(
                { ...equipment.bindings, ...Object.fromEntries(fresh.map(([k, tagId]) => [k, { kind: 'tag' as const, tagId }])) },
                `${fresh.length} members bound`,
              )
            }
          >
            Bind {fresh.length} by name
          </Button>
          <span className="ml-2 text-muted">{fresh.map(([k, id]) => `${k}: ${byId.get(id)?.name}`).join(', ')}</span>
        </div>
      )}
    </>
  )
}

function Now({ tag }: { tag: Tag }) {
  const v = useLiveValue(tag.handle)
  return (
    <span className="inline-flex items-center gap-2 font-mono text-[13px]" title={v ? qualityText(v[2]) : ''}>
      {v ? formatValue(v[1], tag) : '-'}
      <Glyph state={valueGlyph(v)} />
    </span>
  )
}

function TagPicker({
  query,
  tags,
  member,
  onPick,
  onConstant,
  onClose,
}: {
  query: string
  tags: readonly Tag[]
  member: Member
  onPick(t: Tag): void
  onConstant(v: string | number | boolean): void
  onClose(): void
}) {
  const [text, setText] = useState('')
  const found = rankTags(text || query, tags, 8)
  const shown = found.length > 0 || text ? found : rankTags(query.split(' ').at(-1) ?? '', tags, 8)
  const constant =
    text === ''
      ? null
      : member.dataType === 'boolean'
        ? text === 'true'
          ? true
          : text === 'false'
            ? false
            : null
        : member.dataType === 'number' || member.dataType === 'integer'
          ? Number.isFinite(Number(text))
            ? Number(text)
            : null
          : text
  return (
    <div className="w-80">
      <input
        // biome-ignore lint/a11y/noAutofocus: it opens where the hand is
        autoFocus
        aria-label={`Tag for ${member.label}`}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === 'Escape') onClose()
          if (e.key === 'Enter' && shown[0]) onPick(shown[0])
        }}
        placeholder="tag, or a constant"
        className="h-[26px] w-full rounded-sm border border-slate bg-sheet px-2"
      />
      <ul className="rounded-b-sm border border-t-0 border-line bg-sheet">
        {shown.map((t) => (
          <li key={t.id}>
            <button type="button" className="flex w-full justify-between gap-2 px-2 py-[3px] text-left hover:bg-wash" onClick={() => onPick(t)}>
              <span className="truncate">{t.name}</span>
              <span className="text-muted">{t.unit}</span>
            </button>
          </li>
        ))}
        {constant !== null && (
          <li>
            <button type="button" className="w-full px-2 py-[3px] text-left hover:bg-wash" onClick={() => onConstant(constant)}>
              always <span className="font-mono">{String(constant)}</span>
            </button>
          </li>
        )}
        {shown.length === 0 && constant === null && <li className="px-2 py-1 text-muted">No tag is called that</li>}
      </ul>
    </div>
  )
}

import type { FoundPiece, IntakeFinding, WordRole } from '~/contract/intake'
import { roleWords } from '~/core/credential/intake/word-roles'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { TableHead } from '~/ui/TableHead'

const glyph: Record<FoundPiece['state'], GlyphState> = { taken: 'good', locked: 'uncertain', broken: 'bad', left: 'idle' }
const said: Record<FoundPiece['state'], string> = { taken: 'taken', locked: 'locked', broken: 'cannot be read', left: 'left aside' }
const severity: Record<IntakeFinding['severity'], GlyphState> = { stop: 'bad', warning: 'uncertain', note: 'idle' }

/** What was found, and what it was taken for; a word can be said to be something else. */
export function FoundList({ pieces, onCorrect }: { pieces: readonly FoundPiece[]; onCorrect(word: string, role: WordRole): void }) {
  return (
    <table aria-label="Found" className="w-full table-fixed">
      <TableHead
        columns={[
          { key: 'state', head: 'State', quiet: true, width: 34 },
          { key: 'what', head: 'Taken for', width: '22%' },
          { key: 'name', head: 'Name', width: '22%' },
          { key: 'detail', head: 'Value' },
          { key: 'from', head: 'Where it stood', width: '22%' },
        ]}
      />
      <tbody>
        {pieces.map((p) => (
          <tr key={p.id} className="border-b border-line align-top last:border-0">
            <td className="px-2 py-1">
              <Glyph state={glyph[p.state]} title={said[p.state]} />
            </td>
            <td className="px-2 py-1">
              {p.role === null ? (
                p.what
              ) : (
                <select
                  aria-label={`${p.name || p.detail} is`}
                  value={p.role}
                  onChange={(e) => onCorrect(p.id, e.target.value as WordRole)}
                  className="h-6 w-full rounded-sm border border-line bg-sheet px-1 text-xs"
                >
                  {Object.entries(roleWords).map(([role, words]) => (
                    <option key={role} value={role}>
                      {words}
                    </option>
                  ))}
                </select>
              )}
            </td>
            <td className="truncate px-2 py-1" title={p.name}>
              {p.name}
            </td>
            <td className="px-2 py-1 text-[12.5px] break-words">{p.detail}</td>
            <td className="truncate px-2 py-1 text-muted" title={p.from}>
              {p.from}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** What speaks against it, the worst first. */
export function IntakeFindings({ findings }: { findings: readonly IntakeFinding[] }) {
  const order = Object.keys(severity)
  const sorted = [...findings].sort((a, b) => order.indexOf(a.severity) - order.indexOf(b.severity))
  return (
    <ul aria-label="Findings">
      {sorted.map((f) => (
        <li key={f.code + f.message} className="flex items-start gap-2 py-0.5">
          <span className="pt-px">
            <Glyph state={severity[f.severity]} title={f.severity} />
          </span>
          <span>
            <b className="font-semibold">{f.message}</b>. {f.hint.endsWith('?') ? f.hint : `${f.hint}.`}
          </span>
        </li>
      ))}
    </ul>
  )
}

import type { BrowseNode } from '~/contract/source'
import type { NearPattern } from '~/core/source/wildcard'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Heading } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { SHOWN } from './Chosen'

/** What a pattern found. */
export interface Found {
  under: string
  nodes: BrowseNode[]
  all: number
  /** Where nothing fits: patterns like it that fit something. */
  near: NearPattern[]
}

interface Props {
  pattern: string
  onPattern(text: string): void
  inside: boolean
  onInside(on: boolean): void
  folder: BrowseNode | null
  found: Found | null
  busy: boolean
  mayEdit: boolean
  locked: ReadonlyMap<string, string>
  onFind(pattern: string): void
  onChoose(nodes: readonly BrowseNode[]): void
}

/** Looks for nodes by a pattern of their paths, in everything or in one branch. */
export function FindByPattern({ pattern, onPattern, inside, onInside, folder, found, busy, mayEdit, locked, onFind, onChoose }: Props) {
  return (
    <>
      <Heading level={2}>Find by pattern</Heading>
      <Form onSubmit={() => pattern.trim() !== '' && onFind(pattern)}>
        <TextField
          label="Pattern"
          mono
          value={pattern}
          placeholder="**/Zone */temperature"
          onChange={(e) => onPattern(e.target.value)}
          help="* in one level, ** over levels, ? one character"
        />
        <label className="flex items-start gap-2 pb-2 text-[13px]">
          <input type="checkbox" className="mt-1 accent-(--clay)" checked={inside} disabled={!folder} onChange={(e) => onInside(e.target.checked)} />
          <span className={folder ? '' : 'text-muted'}>only under {folder ? (folder.path ?? folder.name) : 'the branch that is marked'}</span>
        </label>
        <Button type="submit" disabled={pattern.trim() === '' || !mayEdit} busy={busy}>
          Find
        </Button>
      </Form>
      {found && (
        <section aria-label="Found" className="mt-3">
          <p role="status">
            <b>{countText(found.nodes.length)}</b> of {countText(found.all)} under {found.under} fit.
          </p>
          {found.near.length > 0 && (
            <div className="my-1">
              Patterns like it that fit:
              {found.near.map((near) => (
                <button
                  key={near.pattern}
                  type="button"
                  className="block max-w-full truncate font-mono text-[12.5px] text-slate underline"
                  onClick={() => {
                    onPattern(near.pattern)
                    onFind(near.pattern)
                  }}
                >
                  {near.pattern} ({countText(near.count)})
                </button>
              ))}
            </div>
          )}
          {found.nodes.length > 0 && (
            <Button small className="my-1" onClick={() => onChoose(found.nodes)}>
              Choose {found.nodes.length === 1 ? 'it' : `all ${countText(found.nodes.length)}`}
            </Button>
          )}
          <ul className="text-[13px] text-muted">
            {found.nodes.slice(0, SHOWN).map((n) => (
              <li key={n.address} className="truncate" title={n.path}>
                {n.path}
                {locked.has(n.address) && ' (is a tag)'}
              </li>
            ))}
          </ul>
          {found.nodes.length > SHOWN && <p className="text-muted">and {countText(found.nodes.length - SHOWN)} more</p>}
        </section>
      )}
    </>
  )
}

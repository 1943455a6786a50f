import { Modal } from '~/ui/Modal'
import { stations } from './stations'

const groups: readonly [string, readonly [string, string][]][] = [
  [
    'Everywhere',
    [
      ['Ctrl K', 'find anything: tag, equipment, publication, topic, page, command'],
      ...stations.map((s): [string, string] => [`g ${s.letter}`, `go to ${s.label}`]),
      ['/', 'into the filter'],
      ['F6', 'on to the next part of the page: middle, peek, left, what can be done, course; with Shift back'],
      ['?', 'these keys'],
      ['Esc', 'close; asks first where something was typed'],
    ],
  ],
  [
    'Tables and trees',
    [
      ['↑ ↓', 'one further; with Shift choose on the way'],
      ['Home, End', 'to the first, to the last'],
      ['Enter', 'open, or edit the cell'],
      ['← →', 'close and open a branch'],
      ['Space', 'tick'],
      ['Ctrl A', 'choose all'],
      ['Ctrl C', 'copy what is chosen, tab-separated'],
      ['Ctrl V', 'bring in cells, rows, or what was picked up'],
      ['F2', 'edit where it stands'],
      ['Ctrl Z, Ctrl Y', 'take back, do again'],
    ],
  ],
  [
    'The wall',
    [
      ['← → ↑ ↓', 'to the next brick'],
      ['PgUp, PgDn', 'earlier, later; so does the wheel sideways, or with Shift'],
      ['+ -', 'narrower bricks, wider ones; so does the wheel with Ctrl, about the pointer'],
    ],
  ],
]

/** Which keys do what. */
export function KeyList({ onClose }: { onClose(): void }) {
  return (
    <Modal open onClose={onClose} title="Keys" width={560}>
      {groups.map(([title, keys]) => (
        <section key={title} className="mb-3">
          <h3 className="mb-1 text-xs font-semibold text-muted">{title}</h3>
          <dl>
            {keys.map(([key, what]) => (
              <div key={key} className="grid grid-cols-[130px_1fr] border-b border-line/70 py-1">
                <dt>
                  <kbd className="font-mono text-[12.5px]">{key}</kbd>
                </dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
        </section>
      ))}
    </Modal>
  )
}

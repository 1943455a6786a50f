import { Fragment, type KeyboardEvent, type ReactNode } from 'react'
import type { Piece, Sentence } from '~/core/tag/sentences'
import { unitOf } from '~/core/value/unit'
import { Button } from '~/ui/Button'
import { Field } from '~/ui/Field'
import { CellInput } from '../edit/CellInput'
import { columnOf, type Properties } from './useProperties'

/** What their labels do not say by themselves. */
const helped = new Set(['unit', 'format', 'deadband', 'rate_ms', 'hold', 'clamp', 'history_max_ms', 'chart_low'])

function helpOf(key: string, text: string): string | undefined {
  const unit = key === 'unit' ? unitOf(text) : null
  if (unit) return `${unit.name}: UCUM ${unit.ucum}${unit.cefact ? `, UN/CEFACT ${unit.cefact}` : ''}`
  return helped.has(key) ? columnOf(key).help : undefined
}

/** What ends a word stays on its line. */
const closing = (piece: Piece | undefined) => (typeof piece === 'string' ? (/^[.,;:]/.exec(piece)?.[0] ?? '') : '')

interface Props {
  sentence: Sentence
  properties: Properties
  /** Columns whose fields are open. */
  open: readonly string[]
  onOpen(keys: readonly string[]): void
  onClose(keys: readonly string[]): void
  mayEdit: boolean
  /** What stands under the sentence. */
  children: ReactNode
}

/** One sentence, and under it the fields of the word that is open. */
export function SentenceRow({ sentence, properties, open, onOpen, onClose, mayEdit, children }: Props) {
  const { cell, changed, faults } = properties
  const keys = sentence.pieces.flatMap((piece) => (typeof piece === 'string' ? [] : piece.keys))
  const shown = open.filter((key) => keys.includes(key))
  const leave = (e: KeyboardEvent) => {
    if (e.key !== 'Escape') return
    e.stopPropagation()
    properties.revert(shown)
    onClose(shown)
  }
  return (
    <div className="border-b border-line px-2.5 py-[7px] last:border-b-0" data-topic={sentence.topic}>
      <div className="leading-[21px]">
        {sentence.pieces.map((piece, i) => {
          if (typeof piece === 'string')
            // biome-ignore lint/suspicious/noArrayIndexKey: a sentence's pieces keep their places
            return <Fragment key={i}>{i === 0 ? piece : piece.slice(closing(piece).length)}</Fragment>
          const is = piece.keys.some((key) => changed.includes(key))
          const wrong = piece.keys.some((key) => faults[key] !== undefined)
          return (
            <span key={piece.keys.join()} className="whitespace-nowrap">
              <Word
                keys={piece.keys}
                state={wrong ? 'wrong' : is ? 'changed' : 'stored'}
                open={piece.keys.every((key) => open.includes(key))}
                mayEdit={mayEdit}
                onClick={() => (piece.keys.every((key) => open.includes(key)) ? onClose(piece.keys) : onOpen(piece.keys))}
              >
                {piece.word}
              </Word>
              {closing(sentence.pieces[i + 1])}
            </span>
          )
        })}
      </div>
      {children}
      {shown.length > 0 && (
        // biome-ignore lint/a11y/noStaticElementInteractions: Escape in a field leaves it
        <div className="mt-1 border-l-2 border-clay pl-2 [&_.grid]:grid-cols-[92px_1fr]" onKeyDown={leave}>
          {shown.map((key, i) => (
            <Field key={key} label={columnOf(key).label} error={faults[key]} help={helpOf(key, cell(key))}>
              {(p) => (
                <CellInput
                  {...p}
                  column={columnOf(key)}
                  value={cell(key)}
                  autoFocus={i === 0}
                  onFocus={(e) => 'select' in e.target && e.target.select()}
                  onValue={(text) => properties.set(key, text)}
                  className={`h-[25px] w-full ${faults[key] ? 'border-bad' : 'border-line'}`}
                />
              )}
            </Field>
          ))}
          {!properties.dirty && (
            <div className="flex justify-end">
              <Button small kind="quiet" onClick={() => onClose(shown)}>
                Close
              </Button>
            </div>
          )}
        </div>
      )}
    </div>
  )
}

const looks = {
  stored: 'border-muted bg-clay-wash/60 hover:bg-clay-wash',
  changed: 'border-clay bg-clay-wash font-semibold',
  wrong: 'border-bad bg-bad-wash text-bad',
}

/** A word of a sentence; for who may edit, one that opens. */
function Word({
  keys,
  state,
  open,
  mayEdit,
  onClick,
  children,
}: {
  keys: readonly string[]
  state: keyof typeof looks
  open: boolean
  mayEdit: boolean
  onClick(): void
  children: ReactNode
}) {
  if (!mayEdit) return <span className="font-mono text-[12.5px] break-words whitespace-normal">{children}</span>
  return (
    <button
      type="button"
      data-word={keys.join(' ')}
      aria-expanded={open}
      title={`Change: ${keys.map((key) => columnOf(key).label.toLowerCase()).join(', ')}`}
      onClick={onClick}
      className={`max-w-[calc(100%-8px)] whitespace-normal rounded-t-sm border-b border-dotted px-0.5 text-left font-mono text-[12.5px] leading-[17px] break-words ${looks[state]}`}
    >
      {children}
    </button>
  )
}

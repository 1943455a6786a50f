import { javascript } from '@codemirror/lang-javascript'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { type Diagnostic, setDiagnostics } from '@codemirror/lint'
import { EditorView } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import CodeMirror, { type ReactCodeMirrorRef } from '@uiw/react-codemirror'
import { X } from 'lucide-react'
import { useEffect, useMemo, useRef } from 'react'
import type { Step } from '~/contract/step'
import { DataType } from '~/contract/tag'
import { Button } from '~/ui/Button'
import { editorLook } from '~/ui/editor-look'
import type { StepFieldsProps } from './fields'
import { Line } from './parts'

type Script = Extract<Step, { kind: 'script' }>

/** Code in our own colours, in both themes. */
const colours = HighlightStyle.define([
  { tag: [tags.keyword, tags.operatorKeyword, tags.controlKeyword, tags.definitionKeyword], color: 'var(--clay)' },
  { tag: [tags.string, tags.special(tags.string), tags.regexp], color: 'var(--good)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--slate)' },
  { tag: tags.comment, color: 'var(--muted)', fontStyle: 'italic' },
])
const gutter = EditorView.theme({
  '.cm-gutters': { background: 'transparent', color: 'var(--muted)', borderRight: '1px solid var(--line)' },
  '.cm-activeLineGutter': { background: 'transparent' },
})

/** Where a problem says that it is, as an offset into the text. */
function placeOf(text: string, problem: string): { from: number; to: number } {
  const found = /line (\d+)(?:, column (\d+))?/.exec(problem)
  const lines = text.split('\n')
  const line = Math.min(Number(found?.[1] ?? 1), lines.length) - 1
  const before = lines.slice(0, line).reduce((n, l) => n + l.length + 1, 0)
  const own = lines[line] ?? ''
  const from = before + Math.min(Math.max(0, Number(found?.[2] ?? 1) - 1), own.length)
  return { from, to: Math.max(from, before + own.length) }
}

/** JavaScript with what is wrong marked where it is wrong. */
function ScriptEditor({ value, problem, onChange }: { value: string; problem: string; onChange(text: string): void }) {
  const editor = useRef<ReactCodeMirrorRef>(null)
  const extensions = useMemo(
    () => [
      editorLook,
      gutter,
      javascript(),
      syntaxHighlighting(colours),
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': 'Script' }),
    ],
    [],
  )
  useEffect(() => {
    const view = editor.current?.view
    if (!view) return
    const text = view.state.doc.toString()
    const marks: Diagnostic[] = problem === '' ? [] : [{ ...placeOf(text, problem), severity: 'error', message: problem }]
    view.dispatch(setDiagnostics(view.state, marks))
  }, [problem])
  return (
    <div className="min-w-0">
      <CodeMirror
        ref={editor}
        value={value}
        onChange={onChange}
        extensions={extensions}
        theme="none"
        minHeight="110px"
        maxHeight="420px"
        basicSetup={{ foldGutter: false, highlightActiveLine: false, highlightSelectionMatches: false }}
      />
    </div>
  )
}

export function ScriptFields({ step, error, problem, console, onChange }: StepFieldsProps<Script>) {
  const gives = (next: Script['gives']) => onChange({ ...step, gives: next })
  const change = (i: number, part: Partial<Script['gives'][number]>) => gives(step.gives.map((g, k) => (k === i ? { ...g, ...part } : g)))
  return (
    <>
      <Line label="does" error={error('code')}>
        <ScriptEditor value={step.code} problem={problem} onChange={(code) => onChange({ ...step, code })} />
        <p className="text-xs text-muted">
          <code>message</code> has the values by their keys, as in <code>message["zones.0.temperature"]</code>; <code>quality</code> and{' '}
          <code>time</code> the same. Return the message, or nothing to drop it. What stands in <code>state</code> is there again at the next message
          of this equipment. No files, no network, a million operations.
        </p>
      </Line>
      <Line label="adds">
        <ul className="grid gap-1" aria-label="Members that it adds">
          {step.gives.map((g, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a row is its place
            <li key={i} className="flex items-center gap-1.5">
              <input
                aria-label={`Member ${i + 1}`}
                className={`field w-44 font-mono ${error(`gives.${i}.member`) ? 'border-bad' : ''}`}
                value={g.member}
                placeholder="member"
                spellCheck={false}
                onChange={(e) => change(i, { member: e.target.value })}
              />
              <select
                aria-label={`Type of member ${i + 1}`}
                className="field"
                value={g.dataType}
                onChange={(e) => change(i, { dataType: e.target.value as DataType })}
              >
                {DataType.options.map((t) => (
                  <option key={t}>{t}</option>
                ))}
              </select>
              <input
                aria-label={`Unit of member ${i + 1}`}
                className="field w-20"
                value={g.unit}
                placeholder="unit"
                onChange={(e) => change(i, { unit: e.target.value })}
              />
              <Button small kind="quiet" aria-label={`Remove member ${i + 1}`} onClick={() => gives(step.gives.filter((_, k) => k !== i))}>
                <X size={13} />
              </Button>
              {error(`gives.${i}.member`) && <span className="text-xs text-bad">{error(`gives.${i}.member`)}</span>}
            </li>
          ))}
        </ul>
        <Button small kind="quiet" onClick={() => gives([...step.gives, { member: '', dataType: 'number', unit: '' }])}>
          Add a member
        </Button>
      </Line>
      {console.length > 0 && (
        <Line label="console">
          <ol aria-label="Console" className="max-h-32 overflow-y-auto rounded-sm bg-well px-2 py-1 font-mono text-[12px] whitespace-pre-wrap">
            {console.map((line, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a line is its place
              <li key={i}>{line}</li>
            ))}
          </ol>
        </Line>
      )}
    </>
  )
}

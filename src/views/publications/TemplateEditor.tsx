import { autocompletion, type CompletionContext } from '@codemirror/autocomplete'
import { type Diagnostic, linter } from '@codemirror/lint'
import { EditorView } from '@codemirror/view'
import CodeMirror from '@uiw/react-codemirror'
import { useMemo, useRef } from 'react'
import { templateFilters } from '~/core/address/template'
import { editorLook } from '~/ui/editor-look'

export interface Offered {
  name: string
  help: string
}

/** Text with placeholders: offers what they may name, after a bar the filters, and underlines what is wrong. */
export function TemplateEditor({
  value,
  onChange,
  label,
  opening,
  offer,
  check,
  oneLine = false,
}: {
  value: string
  onChange(text: string): void
  label: string
  /** What begins a placeholder: `{` in addresses, `${` in messages, where braces are text. */
  opening: '{' | '${'
  offer: readonly Offered[]
  check(text: string): readonly { at: number; message: string }[]
  oneLine?: boolean
}) {
  const now = useRef({ offer, check })
  now.current = { offer, check }
  const extensions = useMemo(() => {
    const begun = opening === '{' ? /\{[^{}]*$/ : /\$\{[^{}]*$/
    const complete = (ctx: CompletionContext) => {
      const open = ctx.matchBefore(begun)
      if (!open) return null
      const inside = open.text.slice(opening.length)
      const bar = inside.lastIndexOf('|')
      const closed = ctx.state.sliceDoc(ctx.pos, ctx.pos + 1) === '}'
      if (bar >= 0)
        return {
          from: open.from + opening.length + bar + 1,
          options: Object.entries(templateFilters).map(([name, f]) => ({
            label: name,
            detail: f.help,
            apply: (f.args[0] > 0 ? `${name}()` : name) + (closed ? '' : '}'),
          })),
          validFor: /^\w*$/,
        }
      return {
        from: open.from + opening.length,
        options: now.current.offer.map((o) => ({ label: o.name, detail: o.help, apply: o.name + (closed ? '' : '}') })),
        validFor: /^[\w.]*$/,
      }
    }
    return [
      editorLook,
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': label }),
      autocompletion({ override: [complete], icons: false }),
      linter(
        (view): Diagnostic[] => {
          const text = view.state.doc.toString()
          return now.current.check(text).map((p) => {
            const from = Math.min(Math.max(0, p.at), Math.max(0, text.length - 1))
            const end = text.indexOf('}', from)
            return { from, to: end < 0 ? text.length : end + 1, severity: 'error', message: p.message }
          })
        },
        { delay: 150 },
      ),
    ]
  }, [label, opening])
  return (
    <div className="min-w-0 flex-1">
      <CodeMirror
        value={value}
        onChange={(text) => onChange(oneLine ? text.replace(/[\r\n]+/g, '') : text)}
        extensions={extensions}
        theme="none"
        {...(!oneLine && { minHeight: '96px' })}
        basicSetup={{
          lineNumbers: false,
          foldGutter: false,
          highlightActiveLine: false,
          highlightSelectionMatches: false,
          autocompletion: false,
          closeBrackets: false,
        }}
      />
    </div>
  )
}

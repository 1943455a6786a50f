import { autocompletion, type Completion, type CompletionContext } from '@codemirror/autocomplete'
import { linter } from '@codemirror/lint'
import { EditorView } from '@codemirror/view'
import CodeMirror from '@uiw/react-codemirror'
import { useMemo, useRef } from 'react'
import type { ExpressionInput } from '~/contract/equipment'
import type { DataType } from '~/contract/tag'
import { compileExpression } from '~/core/expression/compile'
import { expressionFunctions } from '~/core/expression/functions'
import { editorLook } from '~/ui/editor-look'

/** Something that an expression may use, under the name that it would get there. */
export interface Usable {
  name: string
  detail: string
  dataType: DataType
  input: ExpressionInput
}

/** Text in CEL: offers what can be used, and underlines what is wrong where it is wrong. */
export function ExpressionEditor({
  value,
  onChange,
  variables,
  offer,
  onUse,
  label,
}: {
  value: string
  onChange(text: string): void
  variables: readonly { name: string; dataType: DataType; detail: string }[]
  /** What else could be used, for the letters typed so far. */
  offer(typed: string): readonly Usable[]
  onUse(u: Usable): void
  label: string
}) {
  const now = useRef({ variables, offer, onUse })
  now.current = { variables, offer, onUse }
  const extensions = useMemo(() => {
    const complete = (ctx: CompletionContext) => {
      const word = ctx.matchBefore(/[A-Za-z_]\w*/)
      if (!word && !ctx.explicit) return null
      const known = new Set(now.current.variables.map((v) => v.name))
      const options: Completion[] = [
        ...now.current.variables.map((v) => ({ label: v.name, detail: v.detail, type: 'variable', boost: 3 })),
        ...now.current.offer(word?.text ?? '').flatMap((u): Completion[] =>
          known.has(u.name)
            ? []
            : [
                {
                  label: u.name,
                  detail: u.detail,
                  type: 'variable',
                  boost: 1,
                  apply(view, _c, from, to) {
                    view.dispatch({ changes: { from, to, insert: u.name }, selection: { anchor: from + u.name.length } })
                    now.current.onUse(u)
                  },
                },
              ],
        ),
        ...expressionFunctions.map((f) => ({ label: f.name, detail: f.form, info: f.help, type: 'function', apply: `${f.name}(` })),
      ]
      return { from: word?.from ?? ctx.pos, options, filter: true }
    }
    return [
      editorLook,
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': label }),
      autocompletion({ override: [complete], icons: false }),
      linter(
        (view) => {
          const text = view.state.doc.toString()
          if (text.trim() === '') return []
          const c = compileExpression(text, now.current.variables)
          return 'run' in c ? [] : [{ from: c.from, to: Math.max(c.to, Math.min(text.length, c.from + 1)), severity: 'error', message: c.message }]
        },
        { delay: 150 },
      ),
    ]
  }, [label])
  return (
    <CodeMirror
      value={value}
      onChange={onChange}
      extensions={extensions}
      theme="none"
      minHeight="76px"
      basicSetup={{ lineNumbers: false, foldGutter: false, highlightActiveLine: false, highlightSelectionMatches: false, autocompletion: false }}
    />
  )
}

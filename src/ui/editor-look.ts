import { EditorView } from '@codemirror/view'

/** How text editors look: the paper of the rest, nothing of the library's own. */
export const editorLook = EditorView.theme({
  '&': { backgroundColor: 'var(--sheet)', color: 'var(--ink)', border: '1px solid var(--line)', borderRadius: '3px', fontSize: '13px' },
  '&.cm-focused': { outline: '2px solid var(--slate)', outlineOffset: '0' },
  '.cm-content': { fontFamily: 'var(--font-mono)', padding: '6px 4px', caretColor: 'var(--ink)' },
  '.cm-tooltip': { backgroundColor: 'var(--sheet)', color: 'var(--ink)', border: '1px solid var(--line)', borderRadius: '3px' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--wash)', color: 'var(--ink)' },
  '.cm-completionDetail': { color: 'var(--muted)', fontStyle: 'normal', marginLeft: '10px' },
  '.cm-diagnostic-error': { borderLeft: '3px solid var(--bad)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
})

import { Upload, X } from 'lucide-react'
import { useRef } from 'react'
import { Button } from '~/ui/Button'
import { DropArea } from '~/ui/DropArea'
import type { useHanded } from './useHanded'

/** Where files are dropped or chosen, and text is pasted. */
export function HandOver({ handed }: { handed: ReturnType<typeof useHanded> }) {
  const input = useRef<HTMLInputElement>(null)
  const { files, text } = handed.handed
  return (
    <DropArea onFiles={(list) => void handed.add(list)} className="p-3">
      <input
        ref={input}
        type="file"
        multiple
        className="hidden"
        aria-label="Files"
        onChange={(e) => {
          void handed.add(e.target.files)
          e.target.value = ''
        }}
      />
      <div className="flex flex-wrap items-center gap-2">
        <Button onClick={() => input.current?.click()}>
          <Upload size={14} /> Choose files
        </Button>
        <span className="text-muted">or drop them here: certificates, keys, stores, zips, letters, settings. Embrik finds out what is what.</span>
      </div>
      {files.length > 0 && (
        <ul aria-label="Files that were chosen" className="mt-2 flex flex-wrap gap-1">
          {files.map((f) => (
            <li key={f.name} className="flex max-w-full items-center gap-1 rounded-sm bg-well py-0.5 pr-1 pl-2 font-mono text-xs">
              <span className="truncate" title={f.name}>
                {f.name}
              </span>
              <button type="button" aria-label={`Leave out ${f.name}`} className="text-muted hover:text-bad" onClick={() => handed.drop(f.name)}>
                <X size={12} />
              </button>
            </li>
          ))}
        </ul>
      )}
      <textarea
        aria-label="Text"
        value={text}
        spellCheck={false}
        placeholder="Or paste what you were sent, all of it: a letter, a connection string, PEM, JSON, lines of settings"
        className="mt-2 h-20 w-full rounded-sm border border-line bg-sheet p-2 font-mono text-xs"
        onChange={(e) => handed.setText(e.target.value)}
      />
    </DropArea>
  )
}

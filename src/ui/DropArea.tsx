import { type ReactNode, useState } from 'react'

/** An area into which files are dropped; a button within does the same. */
export function DropArea({ onFiles, className, children }: { onFiles(files: FileList): void; className: string; children: ReactNode }) {
  const [over, setOver] = useState(false)
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the button within does the same
    <div
      onDragOver={(e) => {
        e.preventDefault()
        setOver(true)
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        e.preventDefault()
        setOver(false)
        onFiles(e.dataTransfer.files)
      }}
      className={`rounded-sm border border-dashed ${over ? 'border-slate bg-wash' : 'border-line'} ${className}`}
    >
      {children}
    </div>
  )
}

import { type DragEvent, type ReactNode, useState } from 'react'

/** Takes files that are dropped onto an element: what it needs for that, and whether some are held over it. */
export function useFileDrop(onFiles: ((files: File[]) => void) | null) {
  const [over, setOver] = useState(false)
  const files = (e: DragEvent) => e.dataTransfer.types.includes('Files')
  return {
    over,
    target: onFiles && {
      onDragOver: (e: DragEvent) => {
        if (!files(e)) return
        e.preventDefault()
        setOver(true)
      },
      onDragLeave: () => setOver(false),
      onDrop: (e: DragEvent) => {
        if (!files(e)) return
        e.preventDefault()
        setOver(false)
        onFiles([...e.dataTransfer.files])
      },
    },
  }
}

/** An area into which files are dropped; a button within does the same. */
export function DropArea({ onFiles, className, children }: { onFiles(files: File[]): void; className: string; children: ReactNode }) {
  const { over, target } = useFileDrop(onFiles)
  return (
    <div {...target} className={`rounded-sm border border-dashed ${over ? 'border-slate bg-wash' : 'border-line'} ${className}`}>
      {children}
    </div>
  )
}

/** So long the browser has to begin with a file before what it is made of goes, ms. */
const KEPT_MS = 10_000

/** Hands the browser a file to keep. */
export function saveFile(name: string, content: Blob): void {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(content)
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), KEPT_MS)
}

/** What something is called, as the name of a file. */
export const fileNameOf = (name: string): string =>
  name
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '') || 'file'

import type { HandedOver } from '~/contract/intake'
import type { Handed } from './take-in'

/** Files and text as they were handed over, as octets. */
export function handedFiles({ files, text }: HandedOver): Handed[] {
  const all = files.map(({ name, content }) => ({ name, octets: new Uint8Array(Buffer.from(content, 'base64')) }))
  if (text.trim() !== '') all.push({ name: 'pasted text', octets: new TextEncoder().encode(text) })
  return all
}

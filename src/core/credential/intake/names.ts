import type { X509Certificate } from '@peculiar/x509'

/** How people call a certificate: its common name, else its first alternative name, else its whole subject. */
export function nameOf(c: X509Certificate): string {
  const [common] = c.subjectName.getField('CN')
  return common ?? (c.subject || `number ${c.serialNumber}`)
}

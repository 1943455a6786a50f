import type { X509Certificate } from '@peculiar/x509'

/** How people call a certificate: its common name, else its whole subject, else its number. */
export function nameOf(c: X509Certificate): string {
  const [common] = c.subjectName.getField('CN')
  return common ?? (c.subject || `number ${c.serialNumber}`)
}

/** How they call who signed it. */
export const issuerName = (c: X509Certificate): string => c.issuerName.getField('CN')[0] ?? c.issuer

import type { Finding } from '~/contract/publication'

/** Something that is wrong with an address, or to be known of it. */
export const finding = (severity: Finding['severity'], section: Finding['section'], message: string, hint: string): Finding => ({
  severity,
  section,
  message,
  hint,
})

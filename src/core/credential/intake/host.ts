import 'reflect-metadata'
import * as x509 from '@peculiar/x509'
import type { IntakeFinding } from '~/contract/intake'
import { finding } from './finding'
import { nameOf } from './names'

/** Whether text is an address and not a name; v6 with or without brackets. */
export const isAddress = (host: string): boolean => /^\d{1,3}(\.\d{1,3}){3}$/.test(host) || host.includes(':')

/** One writing for each address (RFC 5952 for v6); text that is none stays as it is. */
function written(address: string): string {
  const bare = address.replace(/^\[|\]$/g, '').toLowerCase()
  if (!bare.includes(':')) return bare
  try {
    return new URL(`http://[${bare}]`).hostname.slice(1, -1)
  } catch {
    return bare
  }
}

/** The hosts that a certificate is for: names and addresses among its subject alternative names (RFC 5280 4.2.1.6). */
export function hostsOf(certificate: x509.X509Certificate): { names: string[]; addresses: string[] } {
  const items = certificate.getExtension(x509.SubjectAlternativeNameExtension)?.names.items ?? []
  return {
    names: items.filter((item) => item.type === 'dns').map((item) => item.value.toLowerCase()),
    addresses: items.filter((item) => item.type === 'ip').map((item) => written(item.value)),
  }
}

/** Whether a name in a certificate stands for a host: a star takes the place of its whole first level, of just one (RFC 9525 6.3). */
function covers(name: string, host: string): boolean {
  if (name === host) return true
  const level = host.indexOf('.')
  return name.startsWith('*.') && level > 0 && name.slice(2) === host.slice(level + 1) && name.slice(2).includes('.')
}

/** Whether a certificate is for a host (RFC 9525 6): by its subject alternative names alone. */
export function isFor(certificate: x509.X509Certificate, host: string): boolean {
  const { names, addresses } = hostsOf(certificate)
  if (isAddress(host)) return addresses.includes(written(host))
  return names.some((name) => covers(name, host.toLowerCase().replace(/\.$/, '')))
}

/** What is to be said of the certificate of a server that is to be reached as `host`. */
export function hostFindings(certificate: x509.X509Certificate, host: string): IntakeFinding[] {
  if (isFor(certificate, host)) return []
  const who = nameOf(certificate)
  const { names, addresses } = hostsOf(certificate)
  const all = [...names, ...addresses]
  if (all.length === 0)
    return [
      finding(
        'warning',
        'no-host',
        `${who} names no host among its alternative names`,
        `No client of today accepts it for ${host}: ask for one that names it there`,
      ),
    ]
  return [
    finding(
      'warning',
      'other-host',
      `${who} is for ${all.slice(0, 5).join(', ')}${all.length > 5 ? ` and ${all.length - 5} more` : ''}, not for ${host}`,
      'Use one of its names as host, or ask which one is meant',
    ),
  ]
}

import type { Credential } from '~/contract/credential'
import type { Offer } from '~/contract/intake'

/** The old one beside the new one. */
export function Compared({ one, offer }: { one: Credential; offer: Offer }) {
  const rows = (['subject', 'issuer', 'notBefore', 'notAfter', 'key', 'sha256'] as const).map((key) => {
    const [before, after] = [one.facts![key], offer.facts![key]]
    const shown = (text: string) => (key.startsWith('not') ? text.slice(0, 10) : key === 'sha256' ? text.slice(0, 16) : text)
    return { key, before: shown(before), after: shown(after) }
  })
  const heads = { subject: 'Subject', issuer: 'Issuer', notBefore: 'Valid from', notAfter: 'Valid to', key: 'Key', sha256: 'SHA-256' }
  return (
    <table className="mt-3 w-full table-fixed" aria-label="Old and new">
      <thead>
        <tr className="border-b border-line text-left text-xs text-muted">
          <th scope="col" className="w-24 px-2 py-1">
            <span className="sr-only">What</span>
          </th>
          <th scope="col" className="px-2 py-1 font-semibold">
            Now
          </th>
          <th scope="col" className="px-2 py-1 font-semibold">
            New
          </th>
        </tr>
      </thead>
      <tbody>
        {rows.map(({ key, before, after }) => (
          <tr key={key} className="border-b border-line/70 align-top">
            <th scope="row" className="px-2 py-1 text-left font-normal text-muted">
              {heads[key]}
            </th>
            <td className="px-2 py-1 break-words">{before}</td>
            <td className={`px-2 py-1 break-words ${before === after ? 'text-muted' : 'font-semibold'}`}>{after}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

import { Download } from 'lucide-react'

/** What receivers need to know, as files. */
export function ContractLinks({ id }: { id: string }) {
  const link = (path: string, words: string) => (
    <a className="inline-flex items-center gap-1 text-slate hover:underline" href={`/api/publications/${id}/${path}`} download>
      <Download size={13} /> {words}
    </a>
  )
  return (
    <div className="flex flex-wrap items-center gap-4 pt-2" role="group" aria-label="For receivers">
      <span className="text-muted">For receivers:</span>
      {link('contract', 'schema and example')}
      {link('asyncapi', 'AsyncAPI 3.0, all topics')}
    </div>
  )
}

import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import type { Issued } from '~/contract/make'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Heading } from '~/ui/Notes'
import { call, refresh, useCall } from '../../app/api'
import { tellFailure } from '../../shared/problems'
import { lifeOf, whenWords } from './life'

const common = (subject: string): string => /CN=([^,]+)/.exec(subject)?.[1] ?? subject

/** What an authority signed: how long each is good, and which were taken back. */
export function IssuedList({ one, mayEdit }: { one: Credential; mayEdit: boolean }) {
  const issued = useCall('listIssued', { params: { id: one.id } })
  const ask = useAsk()
  const takeBack = async ({ serial, subject }: Issued) => {
    const text =
      'Its number goes on the revocation list of this authority: hand that list to whoever accepts these certificates. It cannot be undone.'
    if (!(await ask({ title: `Take back ${common(subject)}`, text, act: 'Take back certificate' }))) return
    try {
      await call('takeBackCertificate', { params: { id: one.id }, body: { serial } })
      await refresh('listCredentials', 'listEndings', 'listIssued')
      toast.success(`${common(subject)} is taken back`)
    } catch (e) {
      tellFailure(e)
    }
  }
  return (
    <>
      <Heading>Signed by it</Heading>
      {issued.data?.length === 0 && <span className="text-muted">nothing yet</span>}
      <ul aria-label="Signed by it">
        {issued.data?.map((c) => (
          <li key={c.serial} className="flex items-center gap-2 py-0.5">
            <Glyph state={c.takenBackAt ? 'bad' : lifeOf(c.notAfter)} title={c.takenBackAt ? 'taken back' : 'good'} />
            <span className="truncate" title={`${c.subject}, number ${c.serial}`}>
              {common(c.subject)}
            </span>
            <span className="ml-auto whitespace-nowrap text-muted">
              {c.takenBackAt ? `taken back ${c.takenBackAt.slice(0, 10)}` : whenWords(c.notAfter)}
            </span>
            {!c.takenBackAt && mayEdit && (
              <Button small onClick={() => void takeBack(c)}>
                Take back
              </Button>
            )}
          </li>
        ))}
      </ul>
    </>
  )
}

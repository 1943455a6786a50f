import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { WarnNote } from '~/ui/Notes'
import { Age } from '~/ui/time'
import { call, refresh } from '../../app/api'
import { tellFailure } from '../../shared/problems'

/** What a credential held before it was replaced: it goes when somebody says so, and can be put back until then. */
export function Before({ one, before, mayEdit }: { one: Credential; before: NonNullable<Credential['before']>; mayEdit: boolean }) {
  const ask = useAsk()
  const [busy, setBusy] = useState<'put back' | 'remove' | null>(null)
  const act = async (what: 'put back' | 'remove') => {
    const text = 'Do this when all that uses the new one is connected. It cannot be brought back.'
    if (what === 'remove' && !(await ask({ title: `Remove what ${one.name} held before`, text, act: 'Remove the one before' }))) return
    setBusy(what)
    try {
      await call(what === 'remove' ? 'forgetBefore' : 'putBackCredential', { params: { id: one.id } })
      toast.success(what === 'remove' ? 'The one before is gone' : 'The one before is back; what took its place is kept')
    } catch (e) {
      tellFailure(e)
    } finally {
      await refresh('listCredentials', 'listEndings')
      setBusy(null)
    }
  }
  const held = before.facts ? `until ${before.facts.notAfter.slice(0, 10)}` : `of user ${before.user}`
  return (
    <div className="mb-2">
      <WarnNote>
        Replaced <Age at={Date.parse(before.replacedAt)} /> ago. The one before, {held}, is kept until you are sure of the new one.
        <div className="mt-1.5 flex gap-2">
          <Button small disabled={!mayEdit || busy !== null} busy={busy === 'put back'} onClick={() => void act('put back')}>
            Put it back
          </Button>
          <Button small disabled={!mayEdit || busy !== null} busy={busy === 'remove'} onClick={() => void act('remove')}>
            Remove the one before
          </Button>
        </div>
      </WarnNote>
    </div>
  )
}

import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { Heading, ProblemNote } from '~/ui/Notes'
import { call, refresh } from '../../app/api'
import { useFields } from '../../shared/useFields'
import { FoundList } from '../intake/FoundList'
import { HandOver } from '../intake/HandOver'
import { useHanded } from '../intake/useHanded'

/** Takes in what an authority answered to a signing request. */
export function AnswerRequest({ one, onClose }: { one: Credential; onClose(): void }) {
  const handed = useHanded()
  const { busy, run } = useFields()
  const take = () =>
    run(async () => {
      await call('answerRequest', { params: { id: one.id }, body: handed.handed })
      await refresh('listCredentials', 'listEndings')
      toast.success(`${one.name} is a certificate now`)
      onClose()
    })
  return (
    <Modal
      open
      onClose={onClose}
      width={860}
      title={`The answer to ${one.name}`}
      note="The certificate that the authority made for this request, with its chain where there is one"
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={!handed.anything || handed.busy} onClick={() => void take()}>
            Take in the answer
          </Button>
        </>
      }
    >
      <HandOver handed={handed} />
      {handed.failure && (
        <div className="mt-3">
          <ProblemNote problem={handed.failure} action={<Button onClick={handed.again}>Look at it again</Button>} />
        </div>
      )}
      {handed.taken && handed.taken.pieces.length > 0 && (
        <>
          <Heading level={2}>Found</Heading>
          <FoundList pieces={handed.taken.pieces} onCorrect={handed.correct} />
        </>
      )}
    </Modal>
  )
}

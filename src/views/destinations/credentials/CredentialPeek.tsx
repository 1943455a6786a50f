import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential, CredentialUse } from '~/contract/credential'
import type { TokenRecipe } from '~/contract/token'
import { stopWords } from '~/core/credential/ending-words'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Fact, Heading } from '~/ui/Notes'
import { call, refresh, useCall } from '../../app/api'
import { useFrame } from '../../app/live/live'
import { conditionWords, glyphOf } from '../../shared/condition'
import { tellFailure } from '../../shared/problems'
import { fileNameOf, saveFile } from '../../shared/save-file'
import { CredentialPlaces } from '../CredentialPlaces'
import { AnswerRequest } from './AnswerRequest'
import { Before } from './Before'
import { IssuedList } from './Issued'
import { kindWords, whenWords } from './life'
import { RenewedByItself } from './RenewedByItself'
import { ReplaceCredential } from './ReplaceCredential'
import { TakeOutKey } from './TakeOutKey'
import { TokenView } from './TokenView'

/** One credential: what it says, what uses it, and what can be done with it. */
export function CredentialPeek({ one, mayEdit }: { one: Credential; mayEdit: boolean }) {
  const ask = useAsk()
  const [sheet, setSheet] = useState<'replace' | 'take out' | 'answer' | null>(null)
  const { facts } = one
  const ending = useCall('listEndings').data?.find((e) => e.credentialId === one.id)
  const own = one.kind === 'application'
  const request = one.kind === 'request'
  const publicWords = request ? 'request' : facts?.lists ? 'certificate and list' : 'certificate'
  const keyed = own || one.kind === 'certificate' || one.issues
  const remove = async () => {
    if (!(await ask({ title: `Remove ${one.name}`, text: 'Its key cannot be brought back.', act: 'Remove credential' }))) return
    try {
      await call('removeCredential', { params: { id: one.id } })
      await refresh('listCredentials', 'listEndings')
    } catch (e) {
      tellFailure(e)
    }
  }
  return (
    <>
      <h2 className="text-[15px] font-semibold">{one.name}</h2>
      <div className="mb-2 text-muted">{kindWords[one.kind]}; what is secret is kept encrypted and never shown</div>
      {one.before && <Before one={one} before={one.before} mayEdit={mayEdit} />}
      {facts ? (
        <>
          <Fact name="Subject">{facts.subject}</Fact>
          <Fact name="Issuer">{facts.issuer}</Fact>
          <Fact name="Valid from">{facts.notBefore.slice(0, 10)}</Fact>
          <Fact name="Valid to">{`${facts.notAfter.slice(0, 10)}, ${whenWords(facts.notAfter)}`}</Fact>
          <Fact name="Key">{facts.key}</Fact>
          {facts.names.length > 0 && <Fact name="Names">{facts.names.join(', ')}</Fact>}
          {facts.lists?.map((list) => (
            <Fact key={list.issuer} name="Revocation list">{`of ${list.issuer}${list.until ? `, until ${list.until.slice(0, 10)}` : ''}`}</Fact>
          ))}
          <Fact name="Thumbprint">{facts.sha1}</Fact>
          <Fact name="SHA-256">{facts.sha256}</Fact>
        </>
      ) : (
        <>
          {one.user && <Fact name={request ? 'For' : 'User'}>{one.user}</Fact>}
          {one.recipe && <RecipeFacts recipe={one.recipe} />}
          {one.endsAt && <Fact name="Token ends">{`${one.endsAt.slice(0, 10)}, ${whenWords(one.endsAt)}`}</Fact>}
        </>
      )}
      {/* Above what is still on its way, so that nothing moves under the pointer. */}
      <div className="my-3 flex flex-wrap gap-2">
        {request && (
          <Button kind="main" disabled={!mayEdit} onClick={() => setSheet('answer')}>
            Take in the answer
          </Button>
        )}
        {!own && !request && !one.issues && (
          <Button
            disabled={!mayEdit || one.before !== null}
            title={!mayEdit ? 'Needs the role administrator' : one.before ? 'First remove the one before, or put it back' : ''}
            onClick={() => setSheet('replace')}
          >
            Replace
          </Button>
        )}
        {one.certificate && (
          <Button
            onClick={() => void navigator.clipboard.writeText(one.certificate!).then(() => toast(`The ${publicWords} (not its key) is copied`))}
          >
            Copy {publicWords}
          </Button>
        )}
        {one.certificate && (request || one.issues) && (
          <Button onClick={() => saveFile(`${fileNameOf(one.name)}.${request ? 'csr' : 'pem'}`, new Blob([one.certificate!]))}>
            Save {publicWords}
          </Button>
        )}
        {keyed && mayEdit && <Button onClick={() => setSheet('take out')}>Take out key</Button>}
        {one.usedBy.length === 0 && !own && (
          <Button kind="danger" disabled={!mayEdit} onClick={() => void remove()}>
            Remove
          </Button>
        )}
      </div>
      {one.recipe && <TokenView recipe={one.recipe} user={one.user ?? ''} />}
      {(one.kind === 'password' || one.kind === 'token') && <CredentialPlaces key={one.id} one={one} mayEdit={mayEdit} />}
      {(one.ownSigned || one.renewDays !== null) && <RenewedByItself key={one.id} one={one} mayEdit={mayEdit} />}
      {one.issues && <IssuedList one={one} mayEdit={mayEdit} />}
      <Heading>Used by</Heading>
      {one.usedBy.length > 0 ? <Uses uses={one.usedBy} /> : <span className="text-muted">nothing</span>}
      {ending && (
        <>
          <Heading>When it ends</Heading>
          {stopWords(ending)}.
        </>
      )}
      {sheet === 'replace' && <ReplaceCredential key={one.id} one={one} onClose={() => setSheet(null)} />}
      {sheet === 'answer' && <AnswerRequest key={one.id} one={one} onClose={() => setSheet(null)} />}
      {sheet === 'take out' && <TakeOutKey key={one.id} one={one} onClose={() => setSheet(null)} />}
    </>
  )
}

/** How tokens are made from the key. */
function RecipeFacts({ recipe }: { recipe: TokenRecipe }) {
  return (
    <>
      <Fact name="Signed by">{recipe.form === 'jwt' ? recipe.algorithm : `HMAC with ${recipe.hash}`}</Fact>
      <Fact name="Good for">{`${recipe.lifetimeS} s, renewed ${recipe.marginS} s before`}</Fact>
    </>
  )
}

/** What uses it, each with how it stands and the way there. */
function Uses({ uses }: { uses: readonly CredentialUse[] }) {
  const destinations = useFrame('destinations')
  const sources = useFrame('sources')
  return (
    <ul aria-label="Used by">
      {uses.map(({ kind, id, name }) => {
        const condition = kind === 'destination' ? destinations?.[id]?.sender : sources?.[id]
        return (
          <li key={id} className="flex items-center gap-2 py-0.5">
            <Glyph state={glyphOf(condition)} title={conditionWords(condition)} />
            <a className="truncate text-slate underline" href={`/${kind}s?id=${id}`} title={name}>
              {name}
            </a>
            <span className="text-muted">{kind}</span>
          </li>
        )
      })}
    </ul>
  )
}

import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential, CredentialUse } from '~/contract/credential'
import type { Offer } from '~/contract/intake'
import type { Replacement } from '~/contract/replacement'
import { replacementFindings } from '~/core/credential/replacement'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Choice, PasswordField, SelectField, TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { Modal } from '~/ui/Modal'
import { Heading, ProblemNote } from '~/ui/Notes'
import { call, refresh } from '../../app/api'
import { Steps } from '../../shared/Steps'
import { useFields } from '../../shared/useFields'
import { FoundList, IntakeFindings } from '../intake/FoundList'
import { HandOver } from '../intake/HandOver'
import { Phrase } from '../intake/TakeIn'
import { useHanded } from '../intake/useHanded'
import { type Checked, outcomeOf, useReplacementChecks } from './useReplacementChecks'

type Checks = ReturnType<typeof useReplacementChecks>

/** Puts something new in the place of what a credential holds: tried first by all that use it, with the old one kept. */
export function ReplaceCredential({ one, onClose }: { one: Credential; onClose(): void }) {
  const ask = useAsk()
  const handed = useHanded()
  const [by, setBy] = useState<Replacement['by']>(one.kind === 'password' ? 'typed' : 'handed')
  const [login, setLogin] = useState({ user: one.user ?? '', password: '' })
  const [wanted, setWanted] = useState<string | null>(null)
  const { fields, busy, run } = useFields()
  const offers = (handed.taken?.offers ?? []).filter((o) => o.kind === one.kind)
  const offer = offers.find((o) => o.id === wanted) ?? offers[0] ?? null
  const typed = by === 'typed'
  const replacement: Replacement | null = typed
    ? login.user !== '' && login.password !== ''
      ? { by, ...login }
      : null
    : offer && { by, handed: handed.handed, offer: offer.id }
  const checks = useReplacementChecks(one.id, one.usedBy, typed ? `${login.user}\n${login.password}` : `${offer?.id} ${handed.round}`)
  const next = typed ? { facts: null, user: login.user, endsAt: null } : offer
  const findings = [...(typed ? [] : (handed.taken?.findings ?? [])), ...(replacement && next ? replacementFindings(one.kind, one, next) : [])]
  const failed = one.usedBy.filter((use) => outcomeOf(checks.checked.get(use.id)) === 'failed')

  const takeUp = () =>
    run(async () => {
      await call('replaceCredential', { params: { id: one.id }, body: replacement! })
      await refresh('listCredentials', 'listEndings')
      toast.success(`${one.name} is replaced; the one before is kept until you are sure`)
      onClose()
    })
  const go = async () => {
    if (!replacement) return
    if (failed.length > 0) {
      const names = failed.map((use) => use.name).join(', ')
      const text = `${names} could not connect with it. Messages wait in the outbox and tags are bad until it can, or until you put the old one back.`
      if (await ask({ title: `Replace ${one.name} all the same`, text, act: 'Replace all the same' })) await takeUp()
    } else if (await checks.run(replacement)) await takeUp()
  }
  const label = failed.length > 0 ? 'Replace all the same' : one.usedBy.length === 0 ? 'Replace' : 'Check and replace'
  return (
    <Modal
      open
      onClose={onClose}
      width={860}
      title={`Replace ${one.name}`}
      note="The new one is tried first with all that use it, and taken up by all at once; the old one is kept until you are sure"
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind={failed.length > 0 ? 'danger' : 'main'}
            busy={busy}
            disabled={replacement === null || checks.busy || handed.busy}
            onClick={() => void go()}
          >
            {label}
          </Button>
        </>
      }
    >
      {one.kind === 'password' && (
        <div className="pb-2">
          <Choice
            label="How"
            value={by}
            options={[
              { value: 'typed', label: 'Type it' },
              { value: 'handed', label: 'Take it in' },
            ]}
            onChange={setBy}
          />
        </div>
      )}
      {typed ? (
        <Form label="New log-in" onSubmit={go}>
          <TextField label="User" value={login.user} error={fields.user} onChange={(e) => setLogin({ ...login, user: e.target.value })} />
          <PasswordField
            label="New password"
            value={login.password}
            error={fields.password}
            onChange={(e) => setLogin({ ...login, password: e.target.value })}
          />
        </Form>
      ) : (
        <HandOver handed={handed} />
      )}
      {!typed && handed.failure && (
        <div className="mt-3">
          <ProblemNote problem={handed.failure} action={<Button onClick={handed.again}>Look at it again</Button>} />
        </div>
      )}
      {!typed && handed.taken?.locked && <Phrase onTry={handed.tryPhrase} />}
      {!typed && handed.taken && !offer && !handed.taken.locked && (
        <p role="status" className="mt-3 text-bad">
          There is nothing in it that could take the place of {one.kind === 'certificate' ? 'a certificate with its key' : `this ${one.kind}`}.
        </p>
      )}
      {!typed && offers.length > 1 && (
        <SelectField label="By which" value={offer?.id} onChange={(e) => setWanted(e.target.value)}>
          {offers.map((o) => (
            <option key={o.id} value={o.id}>
              {`${o.name}, until ${o.facts?.notAfter.slice(0, 10) ?? 'further notice'}`}
            </option>
          ))}
        </SelectField>
      )}
      {!typed && offer?.facts && one.facts && <Compared one={one} offer={offer} />}
      {findings.length > 0 && (
        <>
          <Heading level={2}>To be known of it</Heading>
          <IntakeFindings findings={findings} />
        </>
      )}
      {replacement && <Uses uses={one.usedBy} checks={checks} onRun={() => void checks.run(replacement)} />}
      {!typed && handed.taken && handed.taken.pieces.length > 0 && (
        <>
          <Heading level={2}>Found</Heading>
          <FoundList pieces={handed.taken.pieces} onCorrect={handed.correct} />
        </>
      )}
    </Modal>
  )
}

/** The old one beside the new one. */
function Compared({ one, offer }: { one: Credential; offer: Offer }) {
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

const glyphs: Record<ReturnType<typeof outcomeOf>, GlyphState> = { 'not yet': 'idle', running: 'idle', passed: 'good', failed: 'bad' }
const words: Record<ReturnType<typeof outcomeOf>, string> = {
  'not yet': 'not tried yet',
  running: 'is tried',
  passed: 'connects with it',
  failed: 'cannot connect with it',
}

/** All that use it, and how each gets on with the new one. */
function Uses({ uses, checks, onRun }: { uses: readonly CredentialUse[]; checks: Checks; onRun(): void }) {
  return (
    <>
      <Heading
        level={2}
        aside={
          uses.length > 0 &&
          (checks.busy ? (
            <Button small onClick={checks.stop}>
              Stop
            </Button>
          ) : (
            <Button small onClick={onRun}>
              {checks.checked.size > 0 ? 'Try it again' : 'Try it'}
            </Button>
          ))
        }
      >
        Used by
      </Heading>
      {uses.length === 0 ? (
        <p className="text-muted">Nothing uses it: there is nobody to try it with.</p>
      ) : (
        <ul aria-label="Tried with">
          {uses.map((use) => (
            <Use key={use.id} use={use} checked={checks.checked} />
          ))}
        </ul>
      )}
    </>
  )
}

function Use({ use, checked }: { use: CredentialUse; checked: Checked }) {
  const steps = checked.get(use.id)
  const outcome = outcomeOf(steps)
  return (
    <li className="py-1" data-outcome={outcome}>
      <div className="flex items-center gap-2">
        <Glyph state={glyphs[outcome]} title={words[outcome]} />
        <b className="font-semibold">{use.name}</b>
        <span className="text-muted">{use.kind}</span>
        <span className={`ml-auto ${outcome === 'failed' ? 'text-bad' : 'text-muted'}`}>{words[outcome]}</span>
      </div>
      {outcome === 'failed' && (
        <div className="pl-[22px]">
          <Steps steps={steps!.filter((s) => s.state === 'failed')} />
        </div>
      )}
    </li>
  )
}

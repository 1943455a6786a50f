import { useState } from 'react'
import { toast } from 'sonner'
import type { Credential } from '~/contract/credential'
import type { Replacement } from '~/contract/replacement'
import { replacementFindings } from '~/core/credential/replacement'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Choice, PasswordField, TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Modal } from '~/ui/Modal'
import { Heading } from '~/ui/Notes'
import { call, refresh } from '../../app/api'
import { useFields } from '../../shared/useFields'
import { FoundList, IntakeFindings } from '../intake/FoundList'
import { useHanded } from '../intake/useHanded'
import { HandedNew } from './HandedNew'
import { freshRecipe, problemsOf, recipeOf, typedOf } from './recipe'
import { TokenFields } from './TokenFields'
import { TriedWith } from './TriedWith'
import { outcomeOf, useReplacementChecks } from './useReplacementChecks'

/** Puts something new in the place of what a credential holds: tried first by all that use it, with the old one kept. */
export function ReplaceCredential({ one, onClose }: { one: Credential; onClose(): void }) {
  const ask = useAsk()
  const handed = useHanded()
  const [by, setBy] = useState<Replacement['by']>(one.recipe ? 'key' : one.kind === 'password' ? 'typed' : 'handed')
  const [token, setToken] = useState({ user: one.user ?? '', key: '', recipe: one.recipe ? typedOf(one.recipe) : freshRecipe })
  const [login, setLogin] = useState({ user: one.user ?? '', password: '' })
  const [wanted, setWanted] = useState<string | null>(null)
  const { fields, busy, run } = useFields()
  const offers = (handed.taken?.offers ?? []).filter((o) => o.kind === one.kind)
  const offer = offers.find((o) => o.id === wanted) ?? offers[0] ?? null
  const typed = by === 'typed'
  const replacement: Replacement | null =
    by === 'key'
      ? token.key !== '' && Object.keys(problemsOf(token.recipe, token.user)).length === 0
        ? { by, user: token.user, key: token.key, recipe: recipeOf(token.recipe) }
        : null
      : typed
        ? login.user !== '' && login.password !== ''
          ? { by, ...login }
          : null
        : offer && { by, handed: handed.handed, offer: offer.id }
  const checks = useReplacementChecks(
    one.id,
    one.usedBy,
    by === 'key' ? JSON.stringify(token) : typed ? `${login.user}\n${login.password}` : `${offer?.id} ${handed.round}`,
  )
  const next = by === 'handed' ? offer : { facts: null, user: by === 'key' ? token.user : login.user, endsAt: null }
  const findings = [
    ...(by === 'handed' ? (handed.taken?.findings ?? []) : []),
    ...(replacement && next ? replacementFindings(one.kind, one, next) : []),
  ]
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
      {by === 'key' ? (
        <Form label="New key" onSubmit={go}>
          <TokenFields value={token} fields={fields} onChange={setToken} />
        </Form>
      ) : typed ? (
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
        <HandedNew one={one} handed={handed} offers={offers} offer={offer} onOffer={setWanted} />
      )}
      {findings.length > 0 && (
        <>
          <Heading level={2}>To be known of it</Heading>
          <IntakeFindings findings={findings} />
        </>
      )}
      {replacement && <TriedWith uses={one.usedBy} checks={checks} onRun={() => void checks.run(replacement)} />}
      {by === 'handed' && handed.taken && handed.taken.pieces.length > 0 && (
        <>
          <Heading level={2}>Found</Heading>
          <FoundList pieces={handed.taken.pieces} onCorrect={handed.correct} />
        </>
      )}
    </Modal>
  )
}

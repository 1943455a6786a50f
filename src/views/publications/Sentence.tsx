import { type ReactNode, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Destination } from '~/contract/destination'
import type { Condition } from '~/contract/live'
import type { Finding, Publication, PublicationDraft } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { withOwnSteps } from '~/core/publication/clauses'
import { asPrescribed } from '~/core/publication/prescribed'
import { shapeOf } from '~/core/shape/registry'
import { SelectField } from '~/ui/Field'
import { ThreeParts } from '~/ui/Parts'
import { useCall } from '../app/api'
import { useMay } from '../app/caller'
import { ConflictNote, KeptNote } from '../shared/DraftNotes'
import { AddressForm } from './address/AddressForm'
import { AlsoSection } from './also/AlsoSection'
import { OfRoot } from './also/OfRoot'
import { Only } from './also/Only'
import { BudgetDialog } from './budget/BudgetDialog'
import { ContractLinks } from './ContractLinks'
import { Safely, Through } from './clauses'
import { MessagePeek } from './MessagePeek'
import { GoLiveDialog } from './preflight/GoLiveDialog'
import { ReplayDialog } from './replay/ReplayDialog'
import { rowsWords } from './rows/RowsPicker'
import { Section } from './Section'
import { SentenceBar } from './SentenceBar'
import { ShapeForm } from './ShapeForm'
import { fieldWords } from './setting-words'
import { Steps } from './steps/Steps'
import { tagsWords } from './TagsPicker'
import { useAsSent } from './useAsSent'
import { usePublicationDraft } from './usePublicationDraft'
import { Versions } from './Versions'
import { WhatPicker, whatWords } from './WhatPicker'
import { When } from './when/When'

interface Props {
  publication: Publication | null
  condition: Condition | null
  destinations: readonly Destination[]
  /** Of a further clause: the publication that it hangs on. */
  root: Publication | null
  /** All publications. */
  others: readonly Publication[]
  onAddClause(rootId: string): void
  left: ReactNode
  add: ReactNode
  onSaved(id: string | null): void
}

/** A new publication may begin with what another one says. */
function BeginLike({ others, onLike }: { others: readonly Publication[]; onLike(p: Publication): void }) {
  return (
    <SelectField label="Begin like" value="" onChange={(e) => onLike(others.find((p) => p.id === e.target.value)!)}>
      <option value="" disabled>
        choose a publication
      </option>
      {others.map((p) => (
        <option key={p.id} value={p.id}>
          {p.name}
        </option>
      ))}
    </SelectField>
  )
}

/** A publication as a sentence: what, when, in what shape, to which topic, through which destination, how safely. */
export function Sentence({ publication, condition, destinations, root, others, onAddClause, left, add, onSaved }: Props) {
  const equipment = useCall('outlineEquipment')
  const classes = useCall('listClasses')
  const mayEdit = useMay('engineer')
  const [replaying, setReplaying] = useState(false)
  const [weighing, setWeighing] = useState(false)
  const edit = usePublicationDraft({ publication, destinations, root, others, onSaved })
  const { own, draft, set, preview, trouble, waiting, fields, open, setOpen, dirty, busy } = edit
  const destination = destinations.find((d) => d.id === draft.destinationId)
  const sources = useCall('listSources', { enabled: draft.rows !== undefined })
  const kind = kindOf(draft.address)
  const shared = draft.steps?.length ?? 0
  const spoken = useMemo(() => withOwnSteps(draft), [draft])
  const asSent = useAsSent(
    spoken,
    open === 'steps' || open === 'only' || open === 'shape' || open === 'address' || (open === 'when' && draft.trigger.kind === 'when'),
  )

  const findings = preview?.findings ?? []
  const of = (s: Finding['section'] | 'only') =>
    findings.filter((f) => (s === 'only' || s === 'steps' ? f.section === 'steps' && (f.step ?? 0) >= shared === (s === 'only') : f.section === s))
  const byId = useMemo(() => new Map((equipment.data ?? []).map((e) => [e.id, e])), [equipment.data])
  const onMend = (change: Record<string, unknown>) => set(change as Partial<PublicationDraft>)
  /** Another way to send it, as the budget has it; steps of a clause alone stay its own. */
  const takeWay = ({ steps, ...change }: Partial<PublicationDraft>, label: string) => {
    const before = draft
    const added = steps?.slice(spoken.steps?.length ?? 0) ?? []
    const own = root ? { own: [...(draft.own ?? []), ...added] } : { steps: [...(draft.steps ?? []), ...added] }
    set({ ...change, ...(added.length > 0 && own) })
    toast(`Taken: ${label}. It goes out so from the next go-live on`, { action: { label: 'Back', onClick: () => edit.setDraft(before) } })
  }
  const clauses = others.filter((p) => publication && p.alsoOf === publication.id)
  const what = (
    <>
      {draft.rows ? (
        <b>{rowsWords(draft.rows, sources.data ?? [])}</b>
      ) : draft.tags ? (
        <b>{tagsWords(draft.tags)}</b>
      ) : (
        whatWords(draft.equipmentIds, byId, classes.data ?? [])
      )}
      {draft.rule && <span className="text-muted">; by rule</span>}
    </>
  )
  const section = (id: string) => ({ open: open === id, onToggle: () => setOpen(open === id ? null : id), onMend })

  return (
    <>
      <SentenceBar {...{ publication, root, clauses, condition, edit, mayEdit, add }} />
      {edit.going && (
        <GoLiveDialog
          key={edit.going.preflight ? 'looked' : 'looking'}
          publication={edit.going.publication}
          root={root}
          preflight={edit.going.preflight}
          trouble={edit.going.trouble}
          busy={busy === 'live'}
          onGo={(choice) => void edit.freeze(edit.going!.publication, choice)}
          onMend={(change) => {
            edit.setGoing(null)
            onMend(change)
          }}
          onAgain={() => void edit.look(edit.going!.publication, true)}
          onClose={edit.leaveGoing}
        />
      )}
      {weighing && (
        <BudgetDialog
          publication={publication}
          draft={spoken}
          mayEdit={mayEdit}
          onTake={(change, label) => {
            takeWay(change, label)
            setWeighing(false)
          }}
          onClose={() => setWeighing(false)}
        />
      )}
      {replaying && publication && <ReplayDialog publication={publication} draft={draft} onClose={() => setReplaying(false)} />}
      <ThreeParts
        id="publication"
        leftWidth={226}
        peekWidth={324}
        left={left}
        peek={
          <MessagePeek
            {...{ publication, preview, trouble, waiting, dirty }}
            steps={spoken.steps ?? []}
            onWeigh={waiting || draft.rows ? null : () => setWeighing(true)}
            onReplay={publication?.liveVersion == null || draft.rows ? null : () => setReplaying(true)}
          />
        }
      >
        <form className="flex flex-col gap-2 p-3.5" onSubmit={(e) => e.preventDefault()} aria-label="Publication">
          {own.keptAt !== null && <KeptNote at={own.keptAt} onForget={own.forget} />}
          {own.conflict && <ConflictNote differ={own.conflict} labels={fieldWords} onTheirs={own.takeTheirs} onMine={own.takeMine} />}
          <input
            aria-label="Name"
            value={draft.name}
            onChange={(e) => set({ name: e.target.value })}
            placeholder="Name of the publication"
            className="mb-1 rounded-sm border border-transparent bg-transparent px-1 text-[17px] font-semibold hover:border-line focus:border-line"
          />
          {fields.name && <div className="px-1 text-xs text-bad">{fields.name}</div>}
          {root && (
            <div className="px-1 text-muted">
              a further clause of{' '}
              <a className="text-slate underline" href={`/publications?id=${root.id}`}>
                {root.name}
              </a>
            </div>
          )}
          {draft.off && (
            <div className="px-1 text-uncertain">
              This clause is switched off: from the next go-live on it is not sent. <span className="text-ink">Its account stays.</span>
            </div>
          )}
          {publication === null && !root && others.length > 0 && draft.destinationId !== '' && <BeginLike others={others} onLike={edit.beginLike} />}
          {condition && condition.state !== 'running' && (
            <div className={`px-1 ${condition.state === 'trouble' ? 'text-bad' : 'text-uncertain'}`}>
              {condition.state}: {condition.reason}. <span className="text-ink">{condition.hint}</span>
            </div>
          )}
          {root ? (
            <OfRoot {...{ root, draft, what, of, section }} />
          ) : (
            <>
              <Section title="What" summary={what} findings={of('what')} error={fields.equipmentIds} {...section('what')}>
                <WhatPicker
                  equipment={equipment.data ?? []}
                  classes={classes.data ?? []}
                  chosen={draft.equipmentIds}
                  onChange={(equipmentIds) => set({ equipmentIds })}
                  rule={draft.rule}
                  saved={publication?.rule}
                  onRule={(rule) => set({ rule })}
                  tags={draft.tags}
                  onTags={(tags) => set({ tags })}
                  rows={draft.rows}
                  onRows={(rows) => set({ rows })}
                  fields={fields}
                  onBy={set}
                />
              </Section>
              <When draft={draft} set={set} example={asSent.source} fields={fields} findings={of('when')} {...section('when')} />
              <Steps
                steps={draft.steps ?? []}
                onSteps={(steps) => set({ steps: steps.length === 0 ? undefined : [...steps] })}
                example={asSent.source}
                preview={preview}
                fields={fields}
                held={edit.held !== null}
                onHold={(hold) => edit.setHeld(hold && preview ? preview.held : null)}
                findings={of('steps')}
                {...section('steps')}
              />
            </>
          )}
          {(root || clauses.length > 0 || draft.own || draft.onlyClassId) && (
            <Only edit={edit} equipment={byId} classes={classes.data ?? []} example={asSent.source} findings={of('only')} {...section('only')} />
          )}
          <Section
            title="Shape"
            summary={shapeOf(draft.shape).summary(draft.shape as never)}
            findings={of('shape')}
            error={Object.entries(fields).find(([k]) => k.startsWith('shape'))?.[1]}
            {...section('shape')}
          >
            <ShapeForm
              value={draft.shape}
              onChange={(shape) => set({ shape })}
              errors={fields}
              asSent={asSent}
              after={publication && !dirty && <ContractLinks id={publication.id} />}
            />
          </Section>
          <Section
            title="Address"
            summary={
              <>
                {kind.nouns[0]}{' '}
                <code className="rounded-sm bg-well px-1 font-mono text-[12.5px]">
                  {draft.shape.kind === 'sparkplug-b' ? 'as Sparkplug has it' : kind.texts(draft.address).place}
                </code>
                , {kind.summary(asPrescribed(draft).address)}
              </>
            }
            findings={of('address')}
            error={fields['address.topic'] ?? fields['address.kind']}
            {...section('address')}
          >
            <AddressForm draft={draft} set={set} fields={fields} preview={preview} example={asSent.example} />
          </Section>
          <Through
            destinations={destinations}
            chosen={draft.destinationId}
            onChoose={edit.chooseDestination}
            findings={of('through')}
            error={fields.destinationId}
            {...section('through')}
          />
          <Safely destination={destination} edit={edit} findings={of('safely')} {...section('safely')} />
          {!root && (
            <AlsoSection
              clauses={clauses}
              destinations={destinations}
              saved={publication !== null}
              onAdd={() => onAddClause(publication!.id)}
              {...section('also')}
            />
          )}
          {publication?.liveVersion != null && (
            <Section
              title="Before"
              summary={
                root ? (
                  <>
                    frozen with <b>{root.name}</b>
                  </>
                ) : publication.liveVersion === 1 ? (
                  'one version was frozen'
                ) : (
                  <>
                    <b>{publication.liveVersion}</b> versions were frozen
                  </>
                )
              }
              findings={[]}
              {...section('before')}
            >
              <Versions publication={publication} several={root !== null || clauses.length > 0} open={open === 'before'} />
            </Section>
          )}
        </form>
      </ThreeParts>
    </>
  )
}

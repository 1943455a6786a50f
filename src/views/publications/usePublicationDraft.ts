import { useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Destination } from '~/contract/destination'
import { type Preflight, toAccept } from '~/contract/preflight'
import { type HeldValues, type Preview, type Publication, PublicationDraft } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { addressKinds, kindOf, movedTo } from '~/core/address/kinds'
import { revived } from '~/core/publication/over-mqtt'
import type { Problem } from '~/ui/Notes'
import { useInAddress, useParam } from '../app/address'
import { call, failureIn, refresh } from '../app/api'
import { isConflict, tellFailure } from '../shared/problems'
import { useDraft } from '../shared/useDraft'
import { clauseName, freshClause, NAME_MOST } from './also/words'
import { asChosen, type GoLiveChoice, knownWarnings } from './preflight/GoLiveDialog'

/** Which section of the sentence a field stands in. */
const sections: [RegExp, string][] = [
  [/^(equipmentIds|tags|rows)/, 'what'],
  [/^(trigger|pace)/, 'when'],
  [/^steps/, 'steps'],
  [/^(own|onlyClassId)/, 'only'],
  [/^shape/, 'shape'],
  [/^address/, 'address'],
  [/^destinationId/, 'through'],
]
/** Refusals of a go-live that end with another look. */
const again: ReadonlySet<string> = new Set(['preflight.not-accepted', 'publication.changed'])
const sectionOf = (fields: readonly string[]) => sections.find(([of]) => fields.some((f) => of.test(f)))?.[1]

/** A publication while it is edited: what is typed, what would come of it, and what can be done with it. */
export function usePublicationDraft({
  publication,
  destinations,
  root,
  others,
  onSaved,
}: {
  publication: Publication | null
  destinations: readonly Destination[]
  /** Of a further clause: the publication that it hangs on. */
  root: Publication | null
  others: readonly Publication[]
  onSaved(id: string | null): void
}) {
  const [to] = useParam('to')
  // A link may say where a new one goes; else where most go.
  const first = destinations.find((d) => d.id === to) ?? [...destinations].sort((a, b) => b.publicationCount - a.publicationCount)[0]
  const spoken = others.filter((p) => root && (p.id === root.id || p.alsoOf === root.id)).map((p) => p.destinationId)
  const own = useDraft<PublicationDraft>(
    `publication ${publication?.id ?? (root ? `new of ${root.id}` : to === null ? 'new' : `new to ${to}`)}`,
    publication && { version: publication.version, draft: pick(publication) },
    root ? freshClause(root, new Set(spoken), destinations) : freshPublication(first),
    revived,
  )
  const { draft, setDraft } = own
  const [preview, setPreview] = useState<Preview | null>(null)
  /** Values of one moment that the steps are worked out on; null: those of now. */
  const [held, setHeld] = useState<HeldValues | null>(null)
  const [trouble, setTrouble] = useState<Problem | null>(null)
  const [refused, setRefused] = useState<Record<string, string>>({})
  /** Null: as the kind of address has it. */
  const [takeBack, setTakeBack] = useState<boolean | null>(null)
  /** A go-live that waits for somebody to accept what the preflight found. */
  const [going, setGoing] = useState<{ publication: Publication; preflight: Preflight[] | null; trouble: Problem | null } | null>(null)
  const [busy, setBusy] = useState<'save' | 'live' | 'pause' | 'say' | null>(null)
  const [open, setOpen] = useInAddress<string | null>(
    (params) => params.get('section') ?? (publication ? null : root ? 'through' : 'what'),
    (section) => ({ section }),
  )
  const dirty = !publication || own.dirty
  const set = (change: Partial<PublicationDraft>) => setDraft({ ...draft, ...change })
  /** Another destination; where it is of another kind, the address follows it, and what falls away is said. */
  const chooseDestination = (id: string) => {
    const before = draft
    const destination = destinations.find((d) => d.id === id)
    if (!destination) return set({ destinationId: id })
    const { address, lost } = movedTo(draft.address, destination)
    const named =
      root &&
      draft.name ===
        clauseName(
          root,
          destinations.find((d) => d.id === draft.destinationId),
        )
    set({ destinationId: id, address, ...(named && { name: clauseName(root, destination) }) })
    if (address.kind === before.address.kind && lost.length === 0) return
    toast(lost.length > 0 ? `The address follows its destination. It has no ${lost.join(', ')} there` : 'The address follows its destination', {
      action: { label: 'Back', onClick: () => setDraft(before) },
    })
  }
  /** What another publication says, to the destination of this one. */
  const beginLike = (other: Publication) => {
    const before = draft
    const destination = destinations.find((d) => d.id === draft.destinationId)
    if (!destination) return
    const { address, lost } = movedTo(other.address, destination)
    const name = draft.name || `${other.name} to ${destination.name}`.slice(0, NAME_MOST)
    const { alsoOf: _a, off: _o, ...like } = pick(other)
    setDraft({ ...like, name, destinationId: destination.id, address })
    setOpen(null)
    toast(lost.length > 0 ? `Begun like ${other.name}. There it has no ${lost.join(', ')}` : `Begun like ${other.name}`, {
      action: { label: 'Back', onClick: () => setDraft(before) },
    })
  }
  const nobody = draft.rows ? draft.rows.columns.length === 0 : draft.equipmentIds.length === 0 && !draft.tags
  const waiting = nobody || !draft.destinationId

  // What is wrong is said beside its field while it is typed; what is still to be filled in only when it is saved.
  const wrong = useMemo(() => {
    const parsed = PublicationDraft.safeParse({ ...draft, name: draft.name || 'draft' })
    if (parsed.success) return {}
    const typed = parsed.error.issues.filter((i) => /^(shape|address|trigger|pace|steps|own|rows\.(at|nameAs|changeAs))/.test(i.path.join('.')))
    return Object.fromEntries(typed.map((i) => [i.path.join('.'), i.message]))
  }, [draft])
  const fields = { ...refused, ...wrong }
  const unfit = Object.keys(wrong).length > 0

  // The peek follows what is typed, after a breath.
  const text = JSON.stringify(draft)
  const publicationId = publication?.id
  useEffect(() => {
    if (waiting) {
      setPreview(null)
      return
    }
    if (unfit) return
    const abort = new AbortController()
    const look = () =>
      void call('previewPublication', {
        body: {
          draft: { ...(JSON.parse(text) as PublicationDraft), name: 'draft' },
          ...(publicationId !== undefined && { publicationId }),
          ...(held && { held }),
        },
        signal: abort.signal,
      }).then(
        (p) => {
          setPreview(p)
          setTrouble(null)
        },
        (e: unknown) => {
          if (!abort.signal.aborted) setTrouble(failureIn(e))
        },
      )
    const timer = setTimeout(look, 250)
    const again = setInterval(look, 2000)
    return () => {
      clearTimeout(timer)
      clearInterval(again)
      abort.abort()
    }
  }, [text, waiting, unfit, publicationId, held])

  const save = async (): Promise<Publication | null> => {
    const parsed = PublicationDraft.safeParse(draft)
    const nothing = draft.equipmentIds.length === 0 && !draft.tags && !draft.rows ? { equipmentIds: 'Choose at least one equipment' } : null
    if (!parsed.success || nothing) {
      const missing = { ...nothing, ...Object.fromEntries((parsed.error?.issues ?? []).map((i) => [i.path.join('.'), i.message])) }
      setRefused(missing)
      setOpen(sectionOf(Object.keys(missing)) ?? open)
      return null
    }
    setRefused({})
    setBusy('save')
    try {
      const saved = publication
        ? await call('changePublication', { params: { id: publication.id }, query: { version: own.begun ?? undefined }, body: draft })
        : await call('addPublication', { body: draft })
      await refresh('listPublications', 'listDestinations')
      own.saved({ draft: pick(saved), version: saved.version })
      return saved
    } catch (e) {
      const f = failureIn(e)
      if (f.fields) setRefused(f.fields)
      // Somebody else was first: what they saved is shown beside what is written here.
      else if (publication && isConflict(e)) await refresh('listPublications')
      else tellFailure(e)
      return null
    } finally {
      setBusy(null)
    }
  }
  const saveOnly = async () => {
    const saved = await save()
    if (!saved) return
    toast.success(`${saved.name} is saved`)
    onSaved(saved.id)
  }
  const freeze = async (saved: Publication, choice: GoLiveChoice): Promise<void> => {
    setBusy('live')
    try {
      const body = { ...choice, takeBack: takeBack ?? kindOf(draft.address).leaves.taken }
      const now = await call('goLive', { params: { id: saved.id }, body })
      toast.success(now.off ? `${root?.name ?? now.name} is live, without ${now.name}` : `${now.name} is live, version ${now.liveVersion}`)
      setGoing(null)
    } catch (e) {
      tellFailure(e)
      // What has to be known is another thing than what was looked at: it is looked again, and nothing typed is lost.
      if (again.has(failureIn(e).code)) {
        setGoing((now) => now && { ...now, preflight: null })
        await refresh('listPublications')
        return void (await look(saved, true))
      }
    } finally {
      setBusy(null)
      await refresh('listPublications', 'listVersions')
      onSaved(saved.id)
    }
  }
  /** Looks at everything first; where nothing is to be known, and nobody wants to see it, it goes live at once. */
  const goLive = async (show = false) => {
    const saved = dirty ? await save() : publication
    if (saved) await look(saved, show)
  }
  const look = async (saved: Publication, show: boolean): Promise<void> => {
    setBusy('live')
    if (show) setGoing({ publication: saved, preflight: null, trouble: null })
    try {
      const preflight = await call('preflight', { body: { ids: [saved.id] } })
      const known = preflight.flatMap(knownWarnings)
      const findings = preflight.flatMap((p) => p.findings)
      if (!show && !findings.some((f) => f.severity === 'stops') && toAccept(findings).length === known.length)
        return void (await freeze(saved, { note: '', ...asChosen(preflight) }))
      setGoing({ publication: saved, preflight, trouble: null })
    } catch (e) {
      setGoing({ publication: saved, preflight: null, trouble: failureIn(e) })
    } finally {
      setBusy(null)
    }
  }
  const leaveGoing = () => {
    const saved = going?.publication
    setGoing(null)
    // What was new is there now.
    if (saved && !publication) void refresh('listPublications').then(() => onSaved(saved.id))
  }
  const run = async (what: 'pausePublication' | 'resumePublication') => {
    setBusy('pause')
    try {
      await call(what, { params: { id: publication!.id } })
      await refresh('listPublications')
    } catch (e) {
      tellFailure(e)
    } finally {
      setBusy(null)
    }
  }
  const sayNow = async () => {
    setBusy('say')
    try {
      const { messages } = await call('sayPublication', { params: { id: publication!.id } })
      if (messages === 0) toast('Nothing went: its tags have no values yet, or a step holds it back')
      else toast.success(messages === 1 ? 'One message went' : `${messages} messages went`)
    } catch (e) {
      tellFailure(e)
    } finally {
      setBusy(null)
    }
  }
  const remove = async () => {
    const { id } = publication!
    try {
      await call('removePublication', { params: { id } })
      await refresh('listPublications', 'listDestinations')
      onSaved(root?.id ?? null)
      toast(`${publication!.name} removed with its versions and its account`)
    } catch (e) {
      tellFailure(e)
    }
  }

  return {
    own,
    draft,
    set,
    setDraft,
    chooseDestination,
    beginLike,
    preview,
    held,
    setHeld,
    trouble,
    waiting,
    fields,
    open,
    setOpen,
    busy,
    dirty,
    unfit,
    takeBack,
    setTakeBack,
    saveOnly,
    goLive,
    freeze,
    look,
    going,
    setGoing,
    leaveGoing,
    run,
    sayNow,
    remove,
  }
}

export type PublicationEdit = ReturnType<typeof usePublicationDraft>

/** A new publication before anything is written in it. */
const freshPublication = (first: Destination | undefined): PublicationDraft => ({
  name: '',
  equipmentIds: [],
  trigger: { kind: 'change' },
  shape: flatJsonSettings,
  address: first ? movedTo(addressKinds[first.kind].fresh, first).address : addressKinds.mqtt.fresh,
  steersOnly: false,
  destinationId: first?.id ?? '',
})

/** What of a publication is edited. */
function pick({ id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft }: Publication): PublicationDraft {
  return draft
}

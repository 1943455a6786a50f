import { useState } from 'react'
import { toast } from 'sonner'
import type { Publication } from '~/contract/publication'
import type { Version, VersionDifference, VersionDifferences } from '~/contract/version'
import { some } from '~/core/address/some'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Loading } from '~/ui/Notes'
import { countText, Time } from '~/ui/time'
import { call, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Failed } from '../shared/Failed'
import { tellFailure } from '../shared/problems'
import { settingWords } from './setting-words'

const many = (n: number, one: string) => `${countText(n)} ${n === 1 ? one : `${one}s`}`

/** What was frozen at each go-live, in what it differs from the one before, and the way back to it. */
export function Versions({
  publication,
  several,
  open,
}: {
  publication: Publication /** It has further clauses, or is one. */
  several: boolean
  open: boolean
}) {
  const versions = useCall('listVersions', { params: { id: publication.id }, enabled: open })
  const [looked, setLooked] = useState<number | null>(null)
  const mayEdit = useMay('engineer')
  const ask = useAsk()
  const [busy, setBusy] = useState<number | null>(null)
  const goBack = async (v: Version) => {
    const clauses = several ? ' Its clauses are those that it had then.' : ''
    const text = `What it sent then is sent again, as it was frozen; numbers run on.${clauses} What you have written since stays as it is.`
    if (!(await ask({ title: `Go back to version ${v.number}`, text, act: `Go back to version ${v.number}` }))) return
    setBusy(v.number)
    try {
      const now = await call('goBack', { params: { id: publication.id }, body: { number: v.number } })
      toast.success(`${now.name} is live as version ${now.liveVersion}, which is version ${v.backTo ?? v.number} again`)
      await refresh('listPublications', 'listVersions')
    } catch (e) {
      tellFailure(e)
    } finally {
      setBusy(null)
    }
  }
  if (versions.isPending) return <Loading />
  const list = versions.data ?? []
  return (
    <>
      <Failed of={versions} />
      <ul aria-label="Versions">
        {list.map((v, i) => (
          <li key={v.number} className="border-b border-line py-1.5 last:border-0">
            <div className="flex items-baseline gap-3">
              <b className="w-20 font-semibold">Version {v.number}</b>
              <span className="font-mono text-[12.5px]">
                <Time at={Date.parse(v.madeAt)} date />
              </span>
              <span className="min-w-0 flex-1 truncate">
                {v.madeBy}, {many(v.equipment, 'equipment').replace(/s$/, '')}, {many(v.messages, 'message')}
                {v.backTo !== null && <span className="text-muted">; version {v.backTo} again</span>}
              </span>
              {v.live && <span className="text-good">live</span>}
              {i < list.length - 1 && (
                <Button small onClick={() => setLooked(looked === v.number ? null : v.number)}>
                  {looked === v.number ? 'Hide differences' : 'Show differences'}
                </Button>
              )}
              {!v.live && (
                <Button small disabled={!mayEdit} busy={busy === v.number} onClick={() => void goBack(v)}>
                  Go back to it
                </Button>
              )}
            </div>
            {v.note && <p className="pl-[92px] text-[13px] whitespace-pre-wrap">{v.note}</p>}
            {v.accepted.length > 0 && (
              <details className="pl-[92px] text-[13px] text-muted">
                <summary>{many(v.accepted.length, 'warning')} accepted</summary>
                <ul>
                  {v.accepted.map((a) => (
                    <li key={a}>{a}</li>
                  ))}
                </ul>
              </details>
            )}
            {looked === v.number && <Differences id={publication.id} from={list[i + 1]!.number} to={v.number} />}
          </li>
        ))}
      </ul>
    </>
  )
}

const kinds: Record<VersionDifference['kind'], string> = {
  setting: '',
  gone: 'sent no more',
  new: 'new',
  topic: 'address',
  name: 'name',
  type: 'type',
  unit: 'unit',
  value: 'value',
}

/** What is so of several equipment in the same words is said once. */
function together(all: readonly VersionDifference[]): VersionDifference[] {
  const groups = new Map<string, { first: VersionDifference; names: string[] }>()
  for (const d of all) {
    const key = d.kind === 'setting' ? `setting ${d.what}` : `${d.kind}\n${d.before}\n${d.after}`
    const group = groups.get(key)
    if (group) group.names.push(d.what)
    else groups.set(key, { first: d, names: [d.what] })
  }
  return [...groups.values()].map(({ first, names }) => ({ ...first, what: some(names) }))
}

/** What was and what is, one line each. */
export function DifferenceLines({ label, differences, count }: VersionDifferences & { label: string }) {
  return (
    <>
      <ul aria-label={label}>
        {together(differences).map((d) => (
          <li key={`${d.what} ${d.kind} ${d.before} ${d.after}`} className="py-px text-[13px]">
            <span className="text-muted">
              {settingWords(d)}
              {kinds[d.kind] && `, ${kinds[d.kind]}`}:
            </span>{' '}
            {d.before && <s className="text-muted">{d.before}</s>} {d.after && <b className="font-normal">{d.after}</b>}
          </li>
        ))}
      </ul>
      {count > differences.length && <p className="text-muted">and {countText(count - differences.length)} more</p>}
    </>
  )
}

function Differences({ id, from, to }: { id: string; from: number; to: number }) {
  const found = useCall('versionDifferences', { params: { id }, query: { from, to } })
  if (found.isPending) return <Loading />
  const { differences = [], count = 0 } = found.data ?? {}
  return (
    <div className="mt-1 border-l-2 border-line pl-3">
      <Failed of={found} />
      {found.data && count === 0 && <p className="text-muted">Nothing differs from version {from}.</p>}
      <DifferenceLines label={`Differences of version ${to}`} differences={differences} count={count} />
    </div>
  )
}

import { type ReactNode, useContext } from 'react'
import type { Role } from '~/contract/role'
import { Empty } from '~/ui/Notes'
import { CallerContext, useMay } from '../app/caller'
import { guideFor } from '../app/guide'

const link = 'text-slate underline'

const ReadGuide = () => (
  <a className={link} href={guideFor(location.pathname)}>
    Read in the guide how it is done
  </a>
)

/** A station in which nothing is yet: what comes next, for who may do it; for all others who does it, and where to read on. */
export function EmptyStation({ title, needs, action, children }: { title: string; needs: Role; action: ReactNode; children: ReactNode }) {
  const may = useMay(needs)
  return (
    <Empty
      title={title}
      action={
        <span className="flex flex-col items-center gap-2">
          {may ? action : <span>Somebody with the role {needs} begins it.</span>}
          <ReadGuide />
        </span>
      }
    >
      {children}
    </Empty>
  )
}

/** A page that this role may not see: who may, who could change that, and where to go on. */
export function ForRole({ needs, children }: { needs: Role; children: ReactNode }) {
  const caller = useContext(CallerContext)
  return (
    <Empty
      title={`For ${needs}s`}
      action={
        <a className={link} href="/proof/wrong">
          See what is wrong now
        </a>
      }
    >
      {children} You are here as {caller.name}, {caller.role}; an administrator gives roles under People and API keys.
    </Empty>
  )
}

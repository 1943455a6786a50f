import type { Tag } from '~/contract/tag'
import type { Surroundings } from '~/core/tag/columns'
import { GroupsDialog } from './edit/GroupsDialog'
import { type Brought, ImportDialog } from './edit/ImportDialog'
import { MassEdit } from './edit/MassEdit'
import { MoveDialog, type Moved } from './edit/MoveDialog'
import { KeepPattern, LayDown } from './edit/PatternDialogs'
import type { Around } from './edit/planning.worker'

/** What is done to many tags in a sheet over the table. */
export type OpenDialog =
  | { what: 'import'; brought: Brought | null }
  | { what: 'mass'; chosen: readonly Tag[] }
  | { what: 'move'; moved: Moved }
  | { what: 'keep'; folder: string }
  | { what: 'lay' }
  | { what: 'groups' }

interface Props {
  open: OpenDialog
  tags: readonly Tag[]
  around: Surroundings
  plain: Around
  onOpen(dialog: OpenDialog | null): void
}

export function TagDialogs({ open, tags, around, plain, onOpen }: Props) {
  const close = () => onOpen(null)
  if (open.what === 'import')
    return (
      <ImportDialog brought={open.brought} onBring={(brought) => onOpen({ what: 'import', brought })} onClose={close} tags={tags} around={plain} />
    )
  if (open.what === 'mass') return <MassEdit chosen={open.chosen} tags={tags} around={around} plain={plain} onClose={close} />
  if (open.what === 'move') return <MoveDialog moved={open.moved} tags={tags} plain={plain} onClose={close} />
  if (open.what === 'keep') return <KeepPattern folder={open.folder} tags={tags} around={around} onClose={close} />
  if (open.what === 'lay') return <LayDown tags={tags} plain={plain} onClose={close} />
  return <GroupsDialog onClose={close} />
}

import type { TagPick } from '~/contract/publication'
import { TextField } from '~/ui/Field'
import { countText } from '~/ui/time'
import { useCall } from '../app/api'
import { Failed } from '../shared/Failed'

const many = (n: number, one: string, several = `${one}s`) => `${countText(n)} ${n === 1 ? one : several}`

/** `tags in Dryers whose names hold moisture`. */
export function tagsWords({ folder, text }: TagPick): string {
  const held = text === '' ? '' : ` whose names hold ${text}`
  return folder === '' ? `${held ? 'tags' : 'all tags'}${held}` : `tags in ${folder}${held}`
}

/** Tags that go out without equipment: by their folder, by what is in their names. */
export function TagsPicker({ pick, onPick }: { pick: TagPick; onPick(pick: TagPick): void }) {
  const found = useCall('matchingTags', { body: pick, keepPrevious: true, refetchMs: 10_000 })
  const { tags, folders, first } = found.data ?? { tags: 0, folders: 0, first: [] }
  return (
    <div>
      <TextField
        label="In folder"
        help="As their names begin, levels parted by slashes: Dryers/Fan; empty: any"
        value={pick.folder}
        onChange={(e) => onPick({ ...pick, folder: e.target.value.replace(/^\/+/, '') })}
        onBlur={() => onPick({ ...pick, folder: pick.folder.replace(/\/+$/, '') })}
      />
      <TextField
        label="Names hold"
        help="In large letters or small; empty: any"
        value={pick.text}
        onChange={(e) => onPick({ ...pick, text: e.target.value })}
      />
      <Failed of={found} />
      {found.data && (
        <p className="mt-1 text-muted" role="status">
          {tags === 0 ? (
            'No tag is called so now.'
          ) : (
            <>
              Now {many(tags, 'tag')} in {many(folders, 'folder')}: <span className="text-ink">{first.join(', ')}</span>
              {tags > first.length && ` and ${countText(tags - first.length)} more`}. A folder is a message, its tags are the members. What comes
              later joins with the next go-live.
            </>
          )}
        </p>
      )}
    </div>
  )
}

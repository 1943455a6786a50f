import type { SourceKind } from '~/contract/source'

/** Whether a kind of source is read as a whole document, of which rows can go out. */
export const givesRows = (kind: SourceKind): kind is 'sql' | 'http' => kind === 'sql' || kind === 'http'

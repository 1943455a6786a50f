import type { BrowseNode } from '~/contract/source'
import { atPointer, dataTypeOf, leavesOf, parsePointer, pointerPart } from '~/core/source/json-leaf'

/** What lies under a place of a document, as a tree to browse; with `deep` all its single values. */
export function browseDocument(document: unknown, address: string, deep: boolean): BrowseNode[] {
  const parts = parsePointer(address) ?? []
  const under = atPointer(document, parts)
  if (deep)
    return leavesOf(under, 100_000).map((l) => ({
      address: address + l.pointer,
      name: l.path.split('/').at(-1) ?? l.path,
      kind: 'variable',
      hasChildren: false,
      dataType: l.dataType,
      value: String(l.value),
      path: l.path,
    }))
  if (typeof under !== 'object' || under === null) return []
  return Object.entries(under).map(([name, value]) => {
    const inner = typeof value === 'object' && value !== null && !(value instanceof Date)
    return {
      address: address + pointerPart(name),
      name,
      kind: inner ? 'folder' : 'variable',
      hasChildren: inner,
      ...(!inner && { dataType: dataTypeOf(value), value: value instanceof Date ? value.toISOString() : String(value) }),
    }
  })
}

import {
  AccessLevelFlag,
  AttributeIds,
  BrowseDirection,
  type ClientSession,
  DataType,
  type DataValue,
  NodeClass,
  type ReferenceDescription,
  resolveNodeId,
} from 'node-opcua-client'
import type { BrowseNode } from '~/contract/source'
import type { DataType as TagType } from '~/contract/tag'
import { dataTypeOf, pointerPart } from '~/core/source/json-leaf'
import { plain, splitAddress } from './leaf'
import type { Limits } from './limits'

const FOLDERS = 80_000

/** Built-in types (OPC 10000-6 5.1.2) by number, as tag data types. */
export function tagType(dataType: DataType | number): TagType {
  if (dataType === DataType.Boolean) return 'boolean'
  if (dataType >= DataType.SByte && dataType <= DataType.UInt64) return 'integer'
  if (dataType === DataType.Float || dataType === DataType.Double) return 'number'
  if (dataType === DataType.DateTime) return 'time'
  return 'text'
}

const hierarchical = (nodeId: string) => ({
  nodeId,
  browseDirection: BrowseDirection.Forward,
  referenceTypeId: 'HierarchicalReferences',
  includeSubtypes: true,
  nodeClassMask: NodeClass.Object | NodeClass.Variable,
  resultMask: 63,
})

async function references(session: ClientSession, nodeIds: string[], chunk: number): Promise<ReferenceDescription[][]> {
  const out: ReferenceDescription[][] = []
  for (let i = 0; i < nodeIds.length; i += chunk) {
    const results = await session.browse(nodeIds.slice(i, i + chunk).map(hierarchical))
    for (const r of results) {
      const all = [...(r.references ?? [])]
      let more = r.continuationPoint
      while (more && more.length > 0) {
        const next = await session.browseNext(more, false)
        all.push(...(next.references ?? []))
        more = next.continuationPoint
      }
      out.push(all)
    }
  }
  return out
}

const isProperty = (r: ReferenceDescription) => r.referenceTypeId.namespace === 0 && r.referenceTypeId.value === 46

/** What lies one level under a node; with `deep` every variable below it, with its path from there. */
export async function browse(session: ClientSession, limits: Limits, address: string, deep: boolean): Promise<BrowseNode[]> {
  const { nodeId, pointer } = splitAddress(address)
  if (pointer) return inside(await session.read({ nodeId, attributeId: AttributeIds.Value }), nodeId, pointer, deep)
  const top = nodeId || resolveNodeId('ObjectsFolder').toString()
  const [first] = await references(session, [top], limits.nodesPerBrowse)
  let level: BrowseNode[] = toNodes(first ?? [], '').filter((n) => address !== '' || n.address !== 'ns=0;i=2253')
  if (!deep) {
    const below = await describe(session, limits, level)
    if (below.length > 0) return below.map(({ parts: _parts, ...n }) => n)
    // Nothing under it but what it holds itself: an array or structure.
    const value = await session.read({ nodeId: top, attributeId: AttributeIds.Value })
    return value.statusCode.isGood() ? inside(value, top, [], false) : []
  }
  const variables: BrowseNode[] = []
  const seen = new Set<string>([top])
  while (level.length > 0 && seen.size < FOLDERS) {
    const open: BrowseNode[] = []
    for (const node of level) {
      if (seen.has(node.address)) continue
      seen.add(node.address)
      if (node.kind === 'variable') variables.push(node)
      open.push(node)
    }
    const below = await references(
      session,
      open.map((n) => n.address),
      limits.nodesPerBrowse,
    )
    level = below.flatMap((refs, i) => toNodes(refs, open[i]!.path ?? ''))
  }
  const described = await describe(session, limits, variables)
  // Of an array or structure the single values, not the whole.
  return described.flatMap(({ parts, ...n }): BrowseNode[] => parts ?? [n])
}

type Described = BrowseNode & { parts?: BrowseNode[] }

/** The single values inside a value, with addresses that name their place. */
function inside(value: DataValue, nodeId: string, pointer: readonly string[], deep: boolean): BrowseNode[] {
  const at = pointer.reduce<unknown>((v, part) => (v as Record<string, unknown> | null)?.[part], plain(value.value?.value, value.value?.dataType))
  const prefix = `${nodeId}#${pointer.map(pointerPart).join('')}`
  return browseInside(at, prefix, deep)
}

function browseInside(at: unknown, prefix: string, deep: boolean, path = ''): BrowseNode[] {
  if (typeof at !== 'object' || at === null || at instanceof Date) return []
  return Object.entries(at).flatMap(([name, v]): BrowseNode[] => {
    const address = prefix + pointerPart(name)
    const own = path ? `${path}/${name}` : name
    const folder = typeof v === 'object' && v !== null && !(v instanceof Date)
    if (folder) return deep ? browseInside(v, address, true, own) : [{ address, name, kind: 'folder', hasChildren: true, path: own }]
    return [{ address, name, kind: 'variable', hasChildren: false, dataType: dataTypeOf(v), value: String(v), writable: false, path: own }]
  })
}

function toNodes(refs: readonly ReferenceDescription[], under: string): BrowseNode[] {
  return refs
    .filter((r) => !isProperty(r))
    .map((r) => {
      const name = r.displayName.text || r.browseName.name || r.nodeId.toString()
      return {
        address: r.nodeId.toString(),
        name,
        kind: r.nodeClass === NodeClass.Variable ? 'variable' : 'folder',
        hasChildren: r.nodeClass !== NodeClass.Variable,
        path: under ? `${under}/${name}` : name,
      } satisfies BrowseNode
    })
}

/** Reads value, type, unit, description and access of the variables among the nodes. */
async function describe(session: ClientSession, limits: Limits, nodes: BrowseNode[]): Promise<Described[]> {
  const variables = nodes.filter((n) => n.kind === 'variable')
  const parts = new Map<string, BrowseNode[]>()
  const attributes = [AttributeIds.Value, AttributeIds.Description, AttributeIds.UserAccessLevel]
  const chunk = Math.max(1, Math.min(limits.nodesPerBrowse, Math.floor(limits.nodesPerRead / attributes.length)))
  for (let i = 0; i < variables.length; i += chunk) {
    const part = variables.slice(i, i + chunk)
    const values = await session.read(part.flatMap((n) => attributes.map((attributeId) => ({ nodeId: n.address, attributeId }))))
    const properties = await session.browse(
      part.map((n) => ({ ...hierarchical(n.address), referenceTypeId: 'HasProperty', nodeClassMask: NodeClass.Variable })),
    )
    const units: { node: BrowseNode; nodeId: string }[] = []
    part.forEach((node, k) => {
      const [value, description, access] = values.slice(k * 3, k * 3 + 3)
      if (value?.value && value.value.dataType !== DataType.Null) {
        const held = plain(value.value.value, value.value.dataType)
        if (typeof held === 'object' && held !== null && !(held instanceof Date)) {
          node.dataType = 'text'
          node.value = Array.isArray(held) ? `${held.length} values` : `${Object.keys(held).length} fields`
          node.hasChildren = true
          const base = node.path ?? node.name
          parts.set(
            node.address,
            browseInside(held, `${node.address}#`, true).map((n) => ({ ...n, path: `${base}/${n.path}` })),
          )
        } else {
          node.dataType = tagType(value.value.dataType)
          node.value = held instanceof Date ? held.toISOString() : String(held)
        }
      }
      const text = description?.value?.value?.text
      if (text) node.description = text
      node.writable = (Number(access?.value?.value ?? 0) & AccessLevelFlag.CurrentWrite) !== 0
      const eu = properties[k]?.references?.find((r) => r.browseName.name === 'EngineeringUnits')
      if (eu) units.push({ node, nodeId: eu.nodeId.toString() })
    })
    if (units.length > 0) {
      const read = await session.read(units.map((u) => ({ nodeId: u.nodeId, attributeId: AttributeIds.Value })))
      read.forEach((r, k) => {
        const unit = r.value?.value?.displayName?.text
        if (unit) units[k]!.node.unit = unit
      })
    }
  }
  return nodes.map((n) => (parts.has(n.address) ? { ...n, parts: parts.get(n.address)! } : n))
}

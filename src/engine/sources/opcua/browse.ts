import {
  AccessLevelFlag,
  AttributeIds,
  BrowseDirection,
  type ClientSession,
  DataType,
  NodeClass,
  type ReferenceDescription,
  resolveNodeId,
} from 'node-opcua'
import type { BrowseNode } from '~/contract/source'
import type { DataType as TagType } from '~/contract/tag'

const FOLDERS = 4000
const CHUNK = 500

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

async function references(session: ClientSession, nodeIds: string[]): Promise<ReferenceDescription[][]> {
  const out: ReferenceDescription[][] = []
  for (let i = 0; i < nodeIds.length; i += CHUNK) {
    const results = await session.browse(nodeIds.slice(i, i + CHUNK).map(hierarchical))
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
export async function browse(session: ClientSession, address: string, deep: boolean): Promise<BrowseNode[]> {
  const top = address || resolveNodeId('ObjectsFolder').toString()
  const [first] = await references(session, [top])
  let level = toNodes(first ?? [], '').filter((n) => address !== '' || n.address !== 'ns=0;i=2253')
  if (!deep) return describe(session, level)
  const variables: BrowseNode[] = []
  const seen = new Set<string>([top])
  let folders = 0
  while (level.length > 0) {
    const open: BrowseNode[] = []
    for (const node of level) {
      if (seen.has(node.address)) continue
      seen.add(node.address)
      if (node.kind === 'variable') variables.push(node)
      open.push(node)
    }
    folders += open.length
    if (folders > FOLDERS * 20) break
    const below = await references(
      session,
      open.map((n) => n.address),
    )
    level = below.flatMap((refs, i) => toNodes(refs, open[i]!.path ?? ''))
  }
  return describe(session, variables)
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
async function describe(session: ClientSession, nodes: BrowseNode[]): Promise<BrowseNode[]> {
  const variables = nodes.filter((n) => n.kind === 'variable')
  const attributes = [AttributeIds.Value, AttributeIds.Description, AttributeIds.UserAccessLevel]
  for (let i = 0; i < variables.length; i += CHUNK) {
    const part = variables.slice(i, i + CHUNK)
    const values = await session.read(part.flatMap((n) => attributes.map((attributeId) => ({ nodeId: n.address, attributeId }))))
    const properties = await session.browse(
      part.map((n) => ({ ...hierarchical(n.address), referenceTypeId: 'HasProperty', nodeClassMask: NodeClass.Variable })),
    )
    const units: { node: BrowseNode; nodeId: string }[] = []
    part.forEach((node, k) => {
      const [value, description, access] = values.slice(k * 3, k * 3 + 3)
      if (value?.value && value.value.dataType !== DataType.Null) {
        node.dataType = tagType(value.value.dataType)
        node.value = String(value.value.value)
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
  return nodes
}

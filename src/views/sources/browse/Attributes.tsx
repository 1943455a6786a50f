import type { BrowseNode } from '~/contract/source'
import { Fact, Heading } from '~/ui/Notes'

/** What the source says of a node. */
export function Attributes({ node, taken }: { node: BrowseNode; taken: string | undefined }) {
  return (
    <>
      <Heading>{node.name}</Heading>
      <Fact name="Address">{node.address}</Fact>
      {node.path && <Fact name="Path">{node.path}</Fact>}
      {node.dataType && <Fact name="Data type">{node.dataType}</Fact>}
      {node.unit && <Fact name="Unit">{node.unit}</Fact>}
      {node.kind === 'variable' && node.writable !== undefined && <Fact name="Access">{node.writable ? 'read and write' : 'read'}</Fact>}
      {node.value !== undefined && <Fact name="Value when browsed">{node.value}</Fact>}
      {node.description && <Fact name="Description">{node.description}</Fact>}
      {taken && <Fact name="Is the tag">{taken}</Fact>}
    </>
  )
}

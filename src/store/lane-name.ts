/** What stands in the place of a node for the lane of what goes ahead: names of nodes have a slash in them. */
export const AHEAD = 'ahead'

export const laneName = (destination: string, node: string) => (node === AHEAD ? `${destination}, ahead` : `${destination}, node ${node}`)

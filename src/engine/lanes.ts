import type { Condition, LiveFrames } from '~/contract/live'

type Figures = LiveFrames['destinations'][string]

/** How a connection beside the destination's own is doing: that of a node, or that of what goes ahead. */
export interface NodeFigures {
  /** Whose it is. */
  who: string
  figures: Figures
}

const weight = { off: 0, running: 1, starting: 2, trouble: 3 } as const

/** The worst of them, with the rate of all; the trouble of another than its own says whose it is. */
function worst(own: Condition | null, nodes: readonly { who: string; condition: Condition }[]): Condition | null {
  let shown = own
  for (const { who, condition } of nodes)
    if (!shown || weight[condition.state] > weight[shown.state]) shown = { ...condition, reason: `${who}: ${condition.reason}` }
  if (!shown) return null
  const all = [...(own ? [own] : []), ...nodes.map((n) => n.condition)]
  const lasts = all.flatMap((c) => (c.last === null ? [] : [c.last]))
  return { ...shown, rate: all.reduce((sum, c) => sum + c.rate, 0), last: lasts.length > 0 ? Math.max(...lasts) : null }
}

/** What a destination shows: its own connection and all others there, as one. */
export function asOne(own: Figures, nodes: readonly NodeFigures[]): Figures {
  if (nodes.length === 0) return own
  const sum = (of: (f: Figures) => number) => nodes.reduce((all, n) => all + of(n.figures), of(own))
  // A node that does not speak has no connection, and its room in the disk only counts where something waits.
  const speaking = nodes.filter((n) => n.figures.sender.state !== 'off')
  const room = nodes.filter((n) => n.figures.sender.state !== 'off' || n.figures.waiting > 0)
  const off = own.sender.state === 'off'
  const senders = off ? [] : speaking.map((n) => ({ who: n.who, condition: n.figures.sender }))
  const witnesses = off ? [] : speaking.flatMap((n) => (n.figures.witness ? [{ who: n.who, condition: n.figures.witness }] : []))
  return {
    sender: worst(own.sender, senders)!,
    witness: worst(own.witness, witnesses),
    waiting: sum((f) => f.waiting),
    bytes: sum((f) => f.bytes),
    capBytes: own.capBytes + room.reduce((all, n) => all + n.figures.capBytes, 0),
  }
}

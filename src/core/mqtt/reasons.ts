/** What a reason code means for who sent something, and what to do (MQTT 5 2.4). */
export interface Reason {
  words: string
  hint: string
  /** It may be otherwise in a while: worth trying again. */
  temporary: boolean
}

const reasons: Record<number, [words: string, hint: string, temporary?: true]> = {
  128: ['the broker gives no reason', 'Its log may tell more'],
  129: ['a packet was malformed', 'Report this: Embrik wrote something that the broker cannot read'],
  130: ['a packet broke the rules of the protocol', 'Report this, with the log of the broker'],
  131: ['the broker has a reason of its own', 'Its log may tell more'],
  132: ['the broker does not speak this version of MQTT', 'Choose the other version'],
  133: ['the broker refuses this client id', 'Choose another client id'],
  134: ['the broker refuses user or password', 'Check the log-in'],
  135: ['not allowed', 'Give the certificate or log-in that permission at the broker'],
  136: ['the broker is not available', 'Embrik tries again', true],
  137: ['the broker is busy', 'Embrik tries again', true],
  138: ['the broker has banned this client', 'Ask its administrator'],
  139: ['the broker is shutting down', 'Embrik connects again when it is back', true],
  141: ['the broker heard nothing for too long', 'A shorter keep-alive may help', true],
  142: ['another connection uses this client id', 'A broker keeps one connection a client id: give each its own'],
  143: ['the broker does not accept this filter', 'Change the topic template'],
  144: ['the broker does not accept this topic', 'Change the topic template'],
  147: ['more messages were under way than the broker takes', 'Set fewer in flight', true],
  148: ['a topic alias is wrong', 'Report this'],
  149: ['a packet was larger than the broker takes', 'Send less in one message'],
  150: ['messages came faster than the broker takes', 'Send less often, or raise the rate there', true],
  151: ['a quota of the broker is used up', 'Send less, or raise the quota there; Embrik tries again', true],
  152: ['an administrator of the broker ended it', 'Ask there'],
  153: ['the payload is not in the format it claims', 'Report this: the payload should be UTF-8'],
  154: ['the broker keeps no retained messages', 'Switch retain off'],
  155: ['the broker does not take this QoS', 'Choose a lower QoS'],
  156: ['the broker wants to be reached elsewhere for now', 'Use the other server until it is back', true],
  157: ['the broker has moved', 'Use the other server'],
  158: ['the broker has no shared subscriptions', 'Listen without a share'],
  159: ['connections come faster than the broker takes', 'Retry less often', true],
  161: ['the broker has no subscription identifiers', 'Report this'],
  162: ['the broker takes no wildcards in filters', 'Publish to topics that need none'],
}

/** MQTT 3.1.1 3.2.2.3: what CONNACK can say there. */
const oldConnack: Record<number, number> = { 1: 0x84, 2: 0x85, 3: 0x88, 4: 0x86, 5: 0x87 }

/** What a code means; `reasonString` is what the broker itself says to it. */
export function reasonOf(code: number, reasonString = ''): Reason {
  const [words, hint, temporary = false] = reasons[oldConnack[code] ?? code] ?? [`reason ${code}`, "The broker's log may tell more"]
  return { words: reasonString ? `${words} ("${reasonString.slice(0, 200)}")` : words, hint, temporary }
}

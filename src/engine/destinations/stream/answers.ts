import type { Failure } from '~/contract/failure'

/** What an error of the protocol means for what was sent. */
export type Meaning =
  /** Never, for these messages. */
  | 'refused'
  /** Not now. */
  | 'later'
  /** Not now, and they may have been kept all the same. */
  | 'unsure'
  /** The batch is too large or one in it is at fault: of one message, never. */
  | 'split'
  /** It has them already. */
  | 'has'
  /** It knows this producer no more: begin as another one. */
  | 'anew'

interface Said {
  meaning: Meaning
  code: string
  message(place: string): string
  hint: string
}

const say = (meaning: Meaning, code: string, message: (place: string) => string, hint: string): Said => ({ meaning, code, message, hint })

/** Errors of the protocol (its own numbers) in words, by what is to be done about them. */
const known: Readonly<Record<number, Said>> = {
  2: say('split', 'corrupt', (p) => `${p}: a message came damaged`, 'Something between here and the cluster changes octets: look at proxies'),
  3: say(
    'refused',
    'no-topic',
    (p) => `${p}: there is no such topic`,
    'Have it created there, or correct the address; what went aside can be sent again',
  ),
  5: say('later', 'no-leader', (p) => `${p} has no leader just now`, 'A node of the cluster is away; it elects another one by itself'),
  6: say('later', 'moved', (p) => `${p} is led by another node now`, 'Embrik asks which, and goes on there'),
  7: say(
    'unsure',
    'timed-out',
    (p) => `${p}: the cluster did not confirm in time`,
    'Its copies are slow: look at the nodes and the network between them',
  ),
  10: say(
    'split',
    'too-large',
    (p) => `${p}: larger than the cluster takes`,
    'Raise max.message.bytes of the topic, send fewer members, or another shape',
  ),
  13: say('unsure', 'network', (p) => `${p}: a node lost another one`, 'Look at the network between the nodes'),
  17: say('refused', 'topic-name', (p) => `${p} is no name for a topic`, 'Letters, digits, dot, dash and underscore, 249 at most'),
  18: say('split', 'too-large', (p) => `${p}: a batch larger than the cluster takes`, 'Make batches smaller'),
  19: say('later', 'few-copies', (p) => `${p}: fewer copies are up than the topic demands`, 'Bring the nodes back, or lower min.insync.replicas'),
  20: say(
    'unsure',
    'few-copies',
    (p) => `${p}: kept, but on fewer copies than the topic demands`,
    'Bring the nodes back, or lower min.insync.replicas',
  ),
  21: say('refused', 'acks', (p) => `${p}: this kind of acknowledgement is not taken`, 'Choose another under Acknowledged by'),
  29: say(
    'refused',
    'not-allowed',
    (p) => `${p}: not allowed there`,
    'Ask for the permission WRITE on the topic for the sender, READ for the witness',
  ),
  31: say(
    'refused',
    'not-allowed',
    (p) => `${p}: this log-in may not produce counted batches`,
    'Ask for the permission IDEMPOTENT_WRITE on the cluster',
  ),
  32: say(
    'split',
    'timestamp',
    (p) => `${p}: a time that the topic does not take`,
    'Look at message.timestamp limits of the topic, and at the clock here',
  ),
  43: say('refused', 'format', (p) => `${p} keeps messages in an old format without headers`, 'Have the topic brought to message format 2'),
  44: say('refused', 'policy', (p) => `${p}: against a rule of the cluster`, 'Ask who runs it which rule for topics or messages there is'),
  45: say(
    'anew',
    'sequence',
    (p) => `${p}: the cluster misses a batch before this one`,
    'Embrik connects anew and sends again what is not acknowledged',
  ),
  46: say('has', 'sequence', (p) => `${p}: kept already`, ''),
  47: say('anew', 'epoch', (p) => `${p}: another producer has taken this one's place`, 'Embrik connects anew as another producer'),
  56: say('later', 'storage', (p) => `${p}: the disk of a node is full or broken`, 'Look at the node; Embrik tries again'),
  59: say('anew', 'producer', (p) => `${p}: the cluster has forgotten this producer`, 'Embrik connects anew as another producer'),
  74: say('later', 'moved', (p) => `${p} is led by another node now`, 'Embrik asks which, and goes on there'),
  75: say('later', 'moved', (p) => `${p}: a node is not up to date about who leads`, 'It catches up by itself'),
  76: say('refused', 'compression', (p) => `${p}: this compression is not taken`, 'Choose another one, or none'),
  87: say(
    'split',
    'record',
    (p) => `${p}: a message that the topic does not take`,
    'A compacted topic wants a key with each message; others may demand a schema',
  ),
  89: say('later', 'quota', (p) => `${p}: the quota of this log-in is used up`, 'Ask for a larger quota, or send less'),
}

/** What an error of the protocol means, and in words; `place` is topic and partition. */
export function meaningOf(number: number, place: string, detail: string | null = null): { meaning: Meaning; failure: Failure } {
  const said =
    known[number] ?? say('later', `error-${number}`, (p) => `${p}: the cluster answers with error ${number}`, 'Ask who runs it; Embrik tries again')
  return {
    meaning: said.meaning,
    failure: { code: `stream.${said.code}`, message: said.message(place) + (detail ? ` (${detail})` : ''), hint: said.hint, where: 'destination' },
  }
}

/** Requests that are understood: number, versions, and from which version on they are flexible (KIP-482). */
export const requests = {
  produce: { key: 0, from: 3, to: 9, flexible: 9 },
  fetch: { key: 1, from: 4, to: 13, flexible: 12 },
  listOffsets: { key: 2, from: 1, to: 7, flexible: 6 },
  metadata: { key: 3, from: 0, to: 10, flexible: 9 },
  offsetCommit: { key: 8, from: 2, to: 8, flexible: 8 },
  offsetFetch: { key: 9, from: 1, to: 8, flexible: 6 },
  findCoordinator: { key: 10, from: 0, to: 4, flexible: 3 },
  joinGroup: { key: 11, from: 0, to: 7, flexible: 6 },
  heartbeat: { key: 12, from: 0, to: 4, flexible: 4 },
  leaveGroup: { key: 13, from: 0, to: 4, flexible: 4 },
  syncGroup: { key: 14, from: 0, to: 5, flexible: 4 },
  saslHandshake: { key: 17, from: 0, to: 1, flexible: 99 },
  apiVersions: { key: 18, from: 0, to: 3, flexible: 3 },
  createTopics: { key: 19, from: 0, to: 5, flexible: 5 },
  initProducerId: { key: 22, from: 0, to: 4, flexible: 2 },
  saslAuthenticate: { key: 36, from: 0, to: 2, flexible: 2 },
} as const
export type RequestName = keyof typeof requests
export const requestOf: ReadonlyMap<number, RequestName> = new Map(
  Object.entries(requests).map(([name, { key }]) => [key as number, name as RequestName]),
)

/** Octets of the id of a topic (KIP-516). */
export const ID_OCTETS = 16

/** Error codes of the protocol, by its own names for them. */
export const errors = {
  none: 0,
  offsetOutOfRange: 1,
  corruptMessage: 2,
  unknownTopicOrPartition: 3,
  leaderNotAvailable: 5,
  notLeaderOrFollower: 6,
  messageTooLarge: 10,
  coordinatorNotAvailable: 15,
  notEnoughReplicas: 19,
  illegalGeneration: 22,
  inconsistentGroupProtocol: 23,
  unknownMemberId: 25,
  rebalanceInProgress: 27,
  topicAuthorizationFailed: 29,
  unsupportedSaslMechanism: 33,
  illegalSaslState: 34,
  unsupportedVersion: 35,
  topicAlreadyExists: 36,
  outOfOrderSequenceNumber: 45,
  duplicateSequenceNumber: 46,
  invalidProducerEpoch: 47,
  storageError: 56,
  saslAuthenticationFailed: 58,
  unknownProducerId: 59,
  unsupportedCompressionType: 76,
  memberIdRequired: 79,
  invalidRecord: 87,
  unknownTopicId: 100,
} as const
export type ErrorCode = (typeof errors)[keyof typeof errors]

/** Where the stand-ins listen, from the base that moves all ports of Embrik. */
export function standinPorts(base: number) {
  return {
    panel: base + 10,
    brokerPlain: base + 11,
    brokerTls: base + 12,
    brokerMutual: base + 13,
    kiln: base + 14,
    field: base + 15,
    compressor: base + 16,
    /** Of the works stream's two nodes. */
    stream: base + 17,
    streamSecond: base + 18,
    receiver: base + 24,
    objects: base + 25,
    schemas: base + 26,
    /** Of datagrams: where the relay hears, and where it hands on to. */
    relay: base + 27,
    relayGroup: base + 28,
  }
}

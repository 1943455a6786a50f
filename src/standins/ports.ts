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
    streamSecond: base + 29,
    /** Of the two cloud hubs: where units speak, the registry, and where events can be read back. */
    tarn: base + 18,
    tarnRegistry: base + 19,
    fell: base + 20,
    fellRegistry: base + 21,
    tarnEvents: base + 22,
    fellEvents: base + 23,
    receiver: base + 24,
    objects: base + 25,
    schemas: base + 26,
    /** Of datagrams: where the relay hears, and where it hands on to. */
    relay: base + 27,
    relayGroup: base + 28,
  }
}

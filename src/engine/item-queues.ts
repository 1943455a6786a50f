/** Work for many things, each one's in order and one at a time, nobody's waiting for anybody else's. */
export class ItemQueues {
  private readonly last = new Map<string, Promise<void>>()

  constructor(private readonly failed: (id: string, e: unknown) => void) {}

  /** Does it when all that came before for this one is done. */
  add(id: string, work: () => Promise<void> | void): Promise<void> {
    const next = (this.last.get(id) ?? Promise.resolve()).then(work).catch((e: unknown) => this.failed(id, e))
    this.last.set(id, next)
    void next.then(() => {
      if (this.last.get(id) === next) this.last.delete(id)
    })
    return next
  }

  /** All that was added so far. */
  async settled(): Promise<void> {
    await Promise.all(this.last.values())
  }
}

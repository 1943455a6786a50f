/** Addresses that are reached by another way for a while: through a proxy on this machine that can fail on purpose. */
export class Detours {
  private readonly ports = new Map<string, number>()

  private key(host: string, port: number): string {
    return `${host.toLowerCase()} ${port}`
  }

  /** The port on this machine by which an address is reached; undefined: straight. */
  of(host: string, port: number): number | undefined {
    return this.ports.size === 0 ? undefined : this.ports.get(this.key(host, port))
  }

  open(host: string, port: number, through: number): void {
    this.ports.set(this.key(host, port), through)
  }

  close(host: string, port: number): void {
    this.ports.delete(this.key(host, port))
  }
}

/** Of this engine. */
export const detours = new Detours()

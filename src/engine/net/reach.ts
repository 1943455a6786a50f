import { lookup as resolveName } from 'node:dns'
import { BlockList, isIP, type LookupFunction } from 'node:net'
import { networkInterfaces } from 'node:os'
import { checkServerIdentity as identityOf, type PeerCertificate } from 'node:tls'
import { FailureError } from '~/contract/failure'
import { detours } from './detours'

/** What nobody reads tags from or publishes to: of the link (metadata of clouds lie there), and of nobody. */
const NEVER = ['169.254.0.0/16', 'fe80::/10', '0.0.0.0/8', '::/128', '240.0.0.0/4']
/** Groups (RFC 5771, RFC 4291 2.7): nobody connects to one. */
const GROUPS = ['224.0.0.0/4', 'ff00::/8']

const family = (address: string) => (isIP(address) === 6 ? 'ipv6' : 'ipv4')

/** Reads networks: `'10.0.0.0/8, 192.168.1.4, fd00::/8'`. Throws what it cannot read, by its words. */
function networks(text: string, setting: string): BlockList {
  const list = new BlockList()
  for (const one of text.split(/[\s,]+/).filter(Boolean)) {
    const [address = '', bits] = one.split('/')
    const version = isIP(address)
    const most = version === 6 ? 128 : 32
    const prefix = bits === undefined ? most : Number(bits)
    if (version === 0 || (bits !== undefined && !/^\d{1,3}$/.test(bits)) || prefix > most)
      throw new Error(`${setting}: ${one} is no network, as 10.0.0.0/8 is one`)
    list.addSubnet(address, prefix, family(address))
  }
  return list
}

/**
 * Which addresses sources, destinations and their checks may reach: who edits them decides where this machine connects to, which
 * stands where they do not. Names are judged by what they resolve to, each time a connection is made.
 */
export class Reach {
  private constructor(
    private readonly refused: BlockList,
    private readonly groups: BlockList,
    private readonly allowed: BlockList,
    private readonly ownPort: number | null,
  ) {}

  /**
   * `EMBRIK_REFUSED_ADDRESSES` adds networks to those that nobody needs, `EMBRIK_ALLOWED_ADDRESSES` takes some out again; the
   * engine's own control port is refused at every address of this machine.
   */
  static from(env: NodeJS.ProcessEnv, ownPort: number | null): Reach {
    const refused = networks([...NEVER, env.EMBRIK_REFUSED_ADDRESSES ?? ''].join(' '), 'EMBRIK_REFUSED_ADDRESSES')
    return new Reach(refused, networks(GROUPS.join(' '), ''), networks(env.EMBRIK_ALLOWED_ADDRESSES ?? '', 'EMBRIK_ALLOWED_ADDRESSES'), ownPort)
  }

  /** Why an address may not be reached; null: it may. */
  private refusal(address: string, port: number, groups: boolean): string | null {
    if (port === this.ownPort && isOwn(address)) return "it is the engine's own control port"
    if (this.allowed.check(address, family(address))) return null
    const refused = this.refused.check(address, family(address)) || (!groups && this.groups.check(address, family(address)))
    return refused ? 'addresses there are not to be reached from here' : null
  }

  /** Throws when the host's address may not be reached; with `groups` it may be that of a group too, to which datagrams go. */
  demand(address: string, port: number, host = address, groups = false): void {
    const why = this.refusal(address, port, groups)
    if (why === null) return
    throw new FailureError(
      {
        code: 'address.refused',
        message: `${host === address ? address : `${host} (${address})`} port ${port} is refused: ${why}`,
        hint: 'Whoever runs this installation decides it (EMBRIK_REFUSED_ADDRESSES, EMBRIK_ALLOWED_ADDRESSES)',
        where: 'engine',
      },
      403,
    )
  }

  /** Options for Node's sockets and requests: what they resolve to is judged as they connect. Throws for an address that is refused. */
  to(host: string, port: number): { host: string; port: number; lookup: LookupFunction } {
    const through = detours.of(host, port)
    return through === undefined ? this.straight(host, port) : this.roundabout(host, through)
  }

  /** To a proxy on this machine; whom a certificate is for is held against the host all the same. */
  private roundabout(host: string, port: number) {
    const checkServerIdentity = (_name: string, certificate: PeerCertificate) => identityOf(host.replace(/^\[|\]$/g, ''), certificate)
    return { host: '127.0.0.1', port, lookup: resolveName as LookupFunction, checkServerIdentity }
  }

  /** The same, whatever stands between. */
  straight(host: string, port: number): { host: string; port: number; lookup: LookupFunction } {
    const bare = host.replace(/^\[|\]$/g, '')
    if (isIP(bare) !== 0) this.demand(bare, port)
    const lookup: LookupFunction = (name, options, done) =>
      resolveName(name, { ...options, all: true }, (e, found) => {
        if (e) return done(e, '', 4)
        try {
          for (const { address } of found) this.demand(address, port, name)
        } catch (refused) {
          return done(refused as Error, '', 4)
        }
        if (options.all) return done(null, found)
        const [first] = found
        done(null, first!.address, first!.family)
      })
    return { host, port, lookup }
  }

  /** For libraries that connect by themselves: judged just before. Gives where they are to connect to. */
  async look(host: string, port: number): Promise<{ host: string; port: number }> {
    const through = detours.of(host, port)
    const { lookup } = this.straight(host, port)
    const bare = host.replace(/^\[|\]$/g, '')
    // A name that does not resolve is told by whoever connects.
    if (isIP(bare) === 0)
      await new Promise<void>((done, failed) => lookup(bare, { all: true }, (e) => (e instanceof FailureError ? failed(e) : done())))
    return through === undefined ? { host, port } : { host: '127.0.0.1', port: through }
  }
}

function isOwn(address: string): boolean {
  const bare = address.replace(/^::ffff:(?=\d+\.)/i, '')
  if (bare === '::1' || bare.startsWith('127.') || /^(0\.|::$)/.test(bare)) return true
  return Object.values(networkInterfaces()).some((all) => all?.some((i) => i.address === bare))
}

const port = Number(process.env.EMBRIK_ENGINE_PORT ?? Number(process.env.EMBRIK_PORT_BASE ?? 4600) + 1)

/** Of this engine. */
export const reach = Reach.from(process.env, port)

import { createHash } from 'node:crypto'
import { mkdir, readdir, readFile } from 'node:fs/promises'
import { join } from 'node:path'
import { OPCUACertificateManager } from 'node-opcua-certificate-manager'
import { MessageSecurityMode, SecurityPolicy } from 'node-opcua-client'
import { OPCUAServer } from 'node-opcua-server'
import { kilnUri } from '../pki'
import { buildKiln } from './space'

export interface KilnLogins {
  user: string
  password: string
}

/** What the kiln knows of a client certificate that called. */
export interface SeenCertificate {
  thumbprint: string
  state: 'trusted' | 'refused'
  subject: string
}

export interface KilnOptions {
  port: number
  publicPort: number
  folder: string
  login: KilnLogins
  /** Client certificates (DER) that it knows already. */
  trusted: Buffer[]
  /** Its own certificate; without one it makes one. */
  own?: { certificateFile: string; keyFile: string }
  /** People who may log in by certificate (DER). */
  users?: Buffer[]
  /** What it takes at once. */
  limits?: { monitoredItems?: number; monitoredItemsPerCall?: number; nodesPerRead?: number; nodesPerBrowse?: number }
}

/** The kiln controller's OPC UA server. */
export class KilnServer {
  private timer: NodeJS.Timeout | null = null
  /** Nobody logs in any more; who is in stays. */
  refuseLogins = false

  private constructor(
    private readonly server: OPCUAServer,
    private readonly certificates: OPCUACertificateManager,
    private readonly folder: string,
  ) {}

  /** Starts it on `port` of 127.0.0.1; its name to the outside has `publicPort`. Certificates in `trusted` (DER) are known. */
  static async start(o: KilnOptions): Promise<KilnServer> {
    const rootFolder = join(o.folder, 'pki')
    await mkdir(rootFolder, { recursive: true })
    const certificates = new OPCUACertificateManager({ rootFolder, automaticallyAcceptUnknownCertificate: false })
    await certificates.initialize()
    for (const der of o.trusted) await certificates.trustCertificate(der)
    const userCertificates = new OPCUACertificateManager({ rootFolder: join(o.folder, 'users'), automaticallyAcceptUnknownCertificate: false })
    await userCertificates.initialize()
    for (const der of o.users ?? []) await userCertificates.trustCertificate(der)
    const { monitoredItems, monitoredItemsPerCall, nodesPerRead, nodesPerBrowse } = o.limits ?? {}
    let kiln: KilnServer | null = null
    const isValidUser = (user: string, password: string) => !kiln?.refuseLogins && user === o.login.user && password === o.login.password
    const server = new OPCUAServer({
      port: o.port,
      host: '127.0.0.1',
      hostname: '127.0.0.1',
      advertisedEndpoints: `opc.tcp://127.0.0.1:${o.publicPort}`,
      resourcePath: '/kiln',
      serverCertificateManager: certificates,
      userCertificateManager: userCertificates,
      ...(o.own && { certificateFile: o.own.certificateFile, privateKeyFile: o.own.keyFile }),
      serverCapabilities: {
        ...(monitoredItems && { maxMonitoredItems: monitoredItems }),
        operationLimits: {
          ...(monitoredItemsPerCall && { maxMonitoredItemsPerCall: monitoredItemsPerCall }),
          ...(nodesPerRead && { maxNodesPerRead: nodesPerRead }),
          ...(nodesPerBrowse && { maxNodesPerBrowse: nodesPerBrowse }),
        },
      } as never,
      securityModes: [MessageSecurityMode.None, MessageSecurityMode.Sign, MessageSecurityMode.SignAndEncrypt],
      securityPolicies: [SecurityPolicy.None, SecurityPolicy.Basic256Sha256],
      allowAnonymous: false,
      userManager: { isValidUser },
      serverInfo: { applicationUri: kilnUri, productUri: 'urn:varnmoor:kiln' },
      buildInfo: { productName: 'Kiln controller', manufacturerName: 'Varnmoor Clayworks', softwareVersion: '4.2' },
    })
    await server.initialize()
    kiln = new KilnServer(server, certificates, rootFolder)
    kiln.build()
    await server.start()
    return kiln
  }

  private build(): void {
    const space = this.server.engine.addressSpace
    if (!space) throw new Error('no address space')
    const { tick } = buildKiln(space)
    tick()
    this.timer = setInterval(tick, 500)
  }

  /** Every client certificate that has called, trusted or not. */
  async seen(): Promise<SeenCertificate[]> {
    const out: SeenCertificate[] = []
    for (const [folder, state] of [
      ['trusted/certs', 'trusted'],
      ['rejected', 'refused'],
    ] as const)
      for (const file of await readdir(join(this.folder, folder)).catch(() => [] as string[])) {
        const der = pemToDer(await readFile(join(this.folder, folder, file)))
        out.push({ thumbprint: createHash('sha1').update(der).digest('hex'), state, subject: file.replace(/\[.*$/, '').trim() })
      }
    return out
  }

  /** Trusts a certificate (DER) that need not have called yet. */
  async know(der: Buffer): Promise<void> {
    await this.certificates.trustCertificate(der)
  }

  /** Trusts or refuses a certificate that has called before; false when it never did. */
  async trust(thumbprint: string, trusted: boolean): Promise<boolean> {
    for (const folder of ['trusted/certs', 'rejected'])
      for (const file of await readdir(join(this.folder, folder)).catch(() => [] as string[])) {
        const der = pemToDer(await readFile(join(this.folder, folder, file)))
        if (createHash('sha1').update(der).digest('hex') !== thumbprint.toLowerCase()) continue
        if (trusted) await this.certificates.trustCertificate(der)
        else await this.certificates.rejectCertificate(der)
        return true
      }
    return false
  }

  async stop(): Promise<void> {
    if (this.timer) clearInterval(this.timer)
    await this.server.shutdown(0)
  }
}

function pemToDer(file: Buffer): Buffer {
  const m = /-----BEGIN CERTIFICATE-----([\s\S]*?)-----END/.exec(file.toString('latin1'))
  return m ? Buffer.from(m[1]!.replace(/\s/g, ''), 'base64') : file
}

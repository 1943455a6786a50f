import { createHash } from 'node:crypto'
import { mkdir, readdir, readFile } from 'node:fs/promises'
import { join } from 'node:path'
import {
  AccessLevelFlag,
  DataType,
  MessageSecurityMode,
  OPCUACertificateManager,
  OPCUAServer,
  SecurityPolicy,
  StatusCodes,
  standardUnits,
  type UAVariable,
} from 'node-opcua'
import { KilnModel } from './model'

/** Nodes are writable unless this says otherwise. */
const readOnly = { accessLevel: AccessLevelFlag.CurrentRead, userAccessLevel: AccessLevelFlag.CurrentRead }

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
  static async start(o: { port: number; publicPort: number; folder: string; login: KilnLogins; trusted: Buffer[] }): Promise<KilnServer> {
    const rootFolder = join(o.folder, 'pki')
    await mkdir(rootFolder, { recursive: true })
    const certificates = new OPCUACertificateManager({ rootFolder, automaticallyAcceptUnknownCertificate: false })
    await certificates.initialize()
    for (const der of o.trusted) await certificates.trustCertificate(der)
    let kiln: KilnServer | null = null
    const isValidUser = (user: string, password: string) => !kiln?.refuseLogins && user === o.login.user && password === o.login.password
    const server = new OPCUAServer({
      port: o.port,
      host: '127.0.0.1',
      hostname: '127.0.0.1',
      advertisedEndpoints: `opc.tcp://127.0.0.1:${o.publicPort}`,
      resourcePath: '/kiln',
      serverCertificateManager: certificates,
      securityModes: [MessageSecurityMode.None, MessageSecurityMode.Sign, MessageSecurityMode.SignAndEncrypt],
      securityPolicies: [SecurityPolicy.None, SecurityPolicy.Basic256Sha256],
      allowAnonymous: false,
      userManager: { isValidUser },
      serverInfo: { applicationUri: 'urn:varnmoor:kiln-controller', productUri: 'urn:varnmoor:kiln' },
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
    const ns = space.registerNamespace('urn:varnmoor:kiln')
    const model = new KilnModel()
    const kiln = ns.addFolder(space.rootFolder.objects, { browseName: 'Tunnel Kiln 1', nodeId: 's=kiln' })
    const updates: (() => void)[] = []

    const analog = (
      parent: typeof kiln,
      name: string,
      id: string,
      unit: keyof typeof standardUnits | null,
      low: number,
      high: number,
      read: () => number,
      good: () => boolean = () => true,
    ) => {
      const common = {
        browseName: name,
        nodeId: `s=${id}`,
        dataType: DataType.Double,
        ...readOnly,
      }
      const node: UAVariable = unit
        ? ns.addAnalogDataItem({ ...common, componentOf: parent, engineeringUnitsRange: { low, high }, engineeringUnits: standardUnits[unit] })
        : ns.addVariable({ ...common, componentOf: parent })
      const write = () =>
        node.setValueFromSource({ dataType: DataType.Double, value: read() }, good() ? StatusCodes.Good : StatusCodes.BadSensorFailure)
      updates.push(write)
    }

    let state = model.state()
    for (let z = 0; z < state.zones.length; z++) {
      const name = `Zone ${z + 1}`
      const folder = ns.addFolder(kiln, { browseName: name, nodeId: `s=kiln.zone${z + 1}` })
      const id = (leaf: string) => `kiln.zone${z + 1}.${leaf}`
      analog(
        folder,
        'temperature',
        id('temperature'),
        'degree_celsius',
        0,
        1300,
        () => state.zones[z]!.temperature,
        () => state.zones[z]!.sensorGood,
      )
      const setpoint = ns.addAnalogDataItem({
        browseName: 'setpoint',
        nodeId: `s=${id('setpoint')}`,
        componentOf: folder,
        dataType: DataType.Double,
        engineeringUnitsRange: { low: 0, high: 1250 },
        engineeringUnits: standardUnits.degree_celsius,
        minimumSamplingInterval: 100,
        value: { dataType: DataType.Double, value: model.setpoint[z]! },
      })
      // What was written by a client steers the model; nonsense is left unheard.
      updates.push(() => {
        const wanted = Number(setpoint.readValue().value.value)
        if (wanted >= 0 && wanted <= 1250) model.setpoint[z] = wanted
      })
      analog(folder, 'gas flow', id('gasFlow'), 'cubic_metre_per_hour', 0, 60, () => state.zones[z]!.gasFlow)
      const burner = ns.addVariable({
        browseName: 'burner',
        nodeId: `s=${id('burner')}`,
        componentOf: folder,
        dataType: DataType.Boolean,
        ...readOnly,
      })
      updates.push(() => burner.setValueFromSource({ dataType: DataType.Boolean, value: state.zones[z]!.burner }))
      const limit = ns.addVariable({
        browseName: 'high limit',
        nodeId: `s=${id('highLimit')}`,
        componentOf: folder,
        dataType: DataType.Double,
        ...readOnly,
      })
      limit.setValueFromSource({ dataType: DataType.Double, value: state.zones[z]!.setpoint + 80 })
    }
    analog(kiln, 'draught', 'kiln.draught', 'pascal', -100, 0, () => state.draught)
    analog(kiln, 'oxygen', 'kiln.oxygen', 'percent', 0, 21, () => state.oxygen)
    const car = ns.addVariable({
      browseName: 'car number',
      nodeId: 's=kiln.carNumber',
      componentOf: kiln,
      dataType: DataType.UInt32,
      ...readOnly,
    })
    updates.push(() => car.setValueFromSource({ dataType: DataType.UInt32, value: state.carNumber }))
    analog(kiln, 'push interval', 'kiln.pushInterval', 'second', 0, 600, () => state.pushInterval)
    const curve = ns.addVariable({
      browseName: 'firing curve',
      nodeId: 's=kiln.firingCurve',
      componentOf: kiln,
      dataType: DataType.String,
      ...readOnly,
    })
    curve.setValueFromSource({ dataType: DataType.String, value: 'FC-1050-B' })

    const tick = () => {
      model.step()
      state = model.state()
      for (const update of updates) update()
    }
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

import type { AddressSpace, UAVariable } from 'node-opcua-address-space'
import { addAggregateSupport } from 'node-opcua-aggregates'
import { AccessLevelFlag, DataType, StatusCodes, VariantArrayType } from 'node-opcua-client'
import { Range, standardUnits } from 'node-opcua-data-access'
import { KilnModel } from './model'
import { type Point, units, zonePoints } from './points'

/** Nodes are writable unless this says otherwise. */
const readOnly = { accessLevel: AccessLevelFlag.CurrentRead, userAccessLevel: AccessLevelFlag.CurrentRead }

/** Lays out the controller's address space, about 400 variables; `tick` takes the model half a second on. Temperatures and oxygen keep a history. */
export function buildKiln(space: AddressSpace): { tick(): void } {
  const ns = space.registerNamespace('urn:varnmoor:kiln')
  const model = new KilnModel()
  const kiln = ns.addFolder(space.rootFolder.objects, { browseName: 'Tunnel Kiln 1', nodeId: 's=kiln' })
  const updates: (() => void)[] = []
  const zoneFolders: (typeof kiln)[] = []
  const kept: UAVariable[] = []

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
    if (id.endsWith('.temperature') || id === 'kiln.oxygen') kept.push(node)
  }

  let state = model.state()
  for (let z = 0; z < state.zones.length; z++) {
    const name = `Zone ${z + 1}`
    const folder = ns.addFolder(kiln, { browseName: name, nodeId: `s=kiln.zone${z + 1}` })
    zoneFolders.push(folder)
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

  const add = (parent: typeof kiln, prefix: string, p: Point) => {
    const id = `${prefix}.${p.id}`
    const first = p.value(state)
    const dataType =
      typeof first === 'boolean' ? DataType.Boolean : typeof first === 'string' ? DataType.String : p.integer ? DataType.UInt32 : DataType.Double
    const common = { browseName: p.name, nodeId: `s=${id}`, componentOf: parent, dataType, ...readOnly }
    const node = p.unit
      ? ns.addAnalogDataItem({ ...common, engineeringUnitsRange: { low: p.low ?? 0, high: p.high ?? 100 }, engineeringUnits: standardUnits[p.unit] })
      : ns.addVariable(common)
    let last: unknown
    updates.push(() => {
      const value = p.value(state)
      if (value === last) return
      last = value
      node.setValueFromSource({ dataType, value })
    })
  }
  zoneFolders.forEach((folder, z) => {
    for (const p of zonePoints(z)) add(folder, `kiln.zone${z + 1}`, p)
  })
  for (const u of units) {
    const folder = ns.addFolder(kiln, { browseName: u.name, nodeId: `s=kiln.${u.id}` })
    for (const p of u.points) add(folder, `kiln.${u.id}`, p)
  }
  const profile = ns.addVariable({
    browseName: 'temperature profile',
    nodeId: 's=kiln.profile',
    componentOf: kiln,
    dataType: DataType.Double,
    valueRank: 1,
    arrayDimensions: [state.zones.length],
    ...readOnly,
  })
  updates.push(() =>
    profile.setValueFromSource({
      dataType: DataType.Double,
      arrayType: VariantArrayType.Array,
      value: Float64Array.from(state.zones, (zone) => zone.temperature),
    }),
  )
  const span = ns.addVariable({ browseName: 'temperature span', nodeId: 's=kiln.span', componentOf: kiln, dataType: 'Range', ...readOnly })
  updates.push(() => {
    const all = state.zones.map((zone) => zone.temperature)
    const value = new Range({ low: Math.min(...all), high: Math.max(...all) })
    span.setValueFromSource({ dataType: DataType.ExtensionObject, value })
  })
  addAggregateSupport(space)
  for (const node of kept) space.installHistoricalDataNode(node, { maxOnlineValues: 5000 })

  const tick = () => {
    model.step()
    state = model.state()
    for (const update of updates) update()
  }
  return { tick }
}

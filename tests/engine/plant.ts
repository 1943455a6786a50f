import { newId } from '~/contract/id'
import { flatJsonSettings } from '~/contract/shape'
import { type OverMqtt, overMqtt } from '~/core/publication/over-mqtt'
import { addClass } from '~/store/class'
import type { Db } from '~/store/database'
import { editEquipment } from '~/store/equipment-edit'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { addPublication } from '~/store/publication-edit'
import { addSource } from '~/store/source'
import { addTags } from '~/store/tag-edit'
import type { Vault } from '~/store/vault'

/** A source by hand, and so many equipment with a tag for each member; handles go through the members of one, then of the next. */
export async function zonesPlant(
  db: Db,
  vault: Vault,
  zones: number,
  keys: readonly string[] = ['n'],
): Promise<{ handles: number[]; equipmentIds: string[] }> {
  const source = await addSource(db, vault, {
    name: 'by hand',
    kind: 'opcua',
    enabled: false,
    settings: {
      endpoint: 'opc.tcp://127.0.0.1:1/x',
      mode: 'None',
      policy: 'None',
      login: 'anonymous',
      credentialId: null,
      samplingMs: 0,
      queue: 10,
      deadbands: 'here',
      rateMs: 500,
      retryMs: 1000,
    },
  })
  const names = Array.from({ length: zones }, (_, i) => keys.map((k) => `Zone ${i + 1}/${k}`)).flat()
  const tags = await addTags(
    db,
    names.map((name) => ({
      name,
      sourceId: source.id,
      address: `ns=1;s=${name}`,
      dataType: 'number' as const,
      unit: '',
      description: '',
      deadband: null,
    })),
  )
  const members = keys.map((key, i) => ({ id: `m${i}`, key, label: key, dataType: 'number' as const }))
  const cls = await addClass(db, { name: 'Zone', members })
  const top = newId()
  const equipmentIds = Array.from({ length: zones }, () => newId())
  const bindings = (i: number) => Object.fromEntries(keys.map((_, m) => [`m${m}`, { kind: 'tag' as const, tagId: tags[i * keys.length + m]!.id }]))
  await editEquipment(db, {
    add: [
      { id: top, name: 'Varnmoor', parentId: null, level: 'enterprise' },
      ...equipmentIds.map((id, i) => ({
        id,
        name: `Zone ${i + 1}`,
        parentId: top,
        level: 'work unit' as const,
        classId: cls.id,
        bindings: bindings(i),
      })),
    ],
  })
  return { handles: tags.map((x) => x.handle), equipmentIds }
}

/** Adds a publication and lets it go live, as the web server would; gives its id. */
export async function publish(db: Db, draft: Pick<OverMqtt, 'destinationId' | 'equipmentIds'> & Partial<OverMqtt>): Promise<string> {
  const plain = { name: 'p', trigger: { kind: 'change' as const }, shape: flatJsonSettings, topic: '{enterprise}/{unit}' }
  const made = await addPublication(db, overMqtt({ ...plain, ...draft }))
  await goLive(db, made.id, 'test', freeze)
  return made.id
}

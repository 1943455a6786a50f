import type { Equipment, EquipmentClass } from '~/contract/equipment'
import type { Preview, PublicationDraft } from '~/contract/publication'
import type { Tag } from '~/contract/tag'
import { compile, type World } from '~/core/publication/compile'
import { compactJson } from '~/core/shape/compact-json'
import { qualityOf } from '~/core/value/quality'
import type { Db } from '~/store/database'
import { listClasses, listEquipment } from '~/store/equipment'
import { listGroups } from '~/store/group'
import { listMadeUpSources } from '~/store/source'
import { listTags } from '~/store/tag'
import type { LiveTable } from './live/table'

/** The present model, as the engine last read it. */
export class ModelCache implements World {
  tags: Map<string, Tag> = new Map()
  equipment: Map<string, Equipment> = new Map()
  classes: Map<string, EquipmentClass> = new Map()
  madeUpSources: ReadonlySet<string> = new Set()
  /** Rates of sampling groups by id, ms. */
  groupRates: ReadonlyMap<string, number> = new Map()
  members = 0
  bound = 0

  async loadTags(db: Db): Promise<void> {
    const [tags, madeUp, groups] = await Promise.all([listTags(db), listMadeUpSources(db), listGroups(db)])
    this.tags = new Map(tags.map((t) => [t.id, t]))
    this.madeUpSources = madeUp
    this.groupRates = new Map(groups.map((g) => [g.id, g.sampleMs]))
  }

  async loadEquipment(db: Db): Promise<void> {
    const [equipment, classes] = await Promise.all([listEquipment(db), listClasses(db)])
    this.equipment = new Map(equipment.map((e) => [e.id, e]))
    this.classes = new Map(classes.map((c) => [c.id, c]))
    this.members = 0
    this.bound = 0
    for (const e of equipment) {
      const members = e.classId ? (this.classes.get(e.classId)?.members ?? []) : []
      this.members += members.length
      this.bound += members.filter((m) => e.bindings[m.key] !== undefined).length
    }
  }

  tagsBad(table: LiveTable): number {
    let bad = 0
    for (const t of this.tags.values()) if (qualityOf(table.status[t.handle] ?? 0) !== 'good') bad++
    return bad
  }

  /** One real message as a draft would send it now; `equipmentId` picks whose. */
  preview(draft: PublicationDraft, table: LiveTable, equipmentId?: string): Preview {
    const { body, findings } = compile(draft, this)
    const one = body.equipment.find((e) => e.id === equipmentId) ?? body.equipment[0]
    for (const m of one?.members ?? []) if (m.handle !== null) table.ensure(m.handle)
    const payload = one ? compactJson(one.members)(table, Date.now()).payload : null
    return {
      findings,
      topics: body.equipment.slice(0, 12).map((e) => e.topic),
      topicCount: body.equipment.length,
      equipment: one?.name ?? null,
      topic: one?.topic ?? null,
      payload,
      bytes: payload ? Buffer.byteLength(payload) : 0,
    }
  }
}

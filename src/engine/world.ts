import type { Equipment, EquipmentClass, RecordColumn } from '~/contract/equipment'
import { type Tag, TagDraft } from '~/contract/tag'
import { Resolver } from '~/core/equipment/resolve'
import type { RowWorld, World } from '~/core/publication/placed'
import { pointerPart } from '~/core/source/json-leaf'
import { qualityOf } from '~/core/value/quality'
import { listClasses } from '~/store/class'
import type { Db } from '~/store/database'
import { listEquipment } from '~/store/equipment'
import { listGroups } from '~/store/group'
import { listRecords, recordHandles } from '~/store/record'
import { loadRows } from '~/store/row'
import { listMadeUpSources } from '~/store/source'
import { listTags } from '~/store/tag'
import type { LiveTable } from './live/table'

/** A place in a record source, as its driver is asked for it: like a tag that nobody has named. */
function recordTag(r: RecordColumn): Tag {
  const address = (r.row ? pointerPart(r.row) : '') + pointerPart(r.column)
  return { ...TagDraft.parse({ name: r.column, sourceId: r.sourceId, address, dataType: r.dataType }), id: r.sourceId, handle: r.handle, version: 1 }
}

/** The present model, as the engine last read it. */
export class ModelCache implements World {
  tags: Map<string, Tag> = new Map()
  equipment: Map<string, Equipment> = new Map()
  classes: Map<string, EquipmentClass> = new Map()
  records: Map<string, number> = new Map()
  /** What sources are to read beside their tags. */
  recordTags: Tag[] = []
  madeUpSources: ReadonlySet<string> = new Set()
  /** Rates of sampling groups by id, ms. */
  groupRates: ReadonlyMap<string, number> = new Map()
  rows: RowWorld = { sources: new Map(), handles: new Map() }
  members = 0
  bound = 0

  async loadTags(db: Db): Promise<void> {
    const [tags, madeUp, groups, rows] = await Promise.all([listTags(db), listMadeUpSources(db), listGroups(db), loadRows(db)])
    this.tags = new Map(tags.map((t) => [t.id, t]))
    this.madeUpSources = madeUp
    this.rows = rows
    this.groupRates = new Map(groups.map((g) => [g.id, g.sampleMs]))
  }

  /** True: other places in record sources are read now than before. */
  async loadEquipment(db: Db): Promise<boolean> {
    const [equipment, classes, records] = await Promise.all([listEquipment(db), listClasses(db), listRecords(db)])
    const before = this.recordTags.length
    this.equipment = new Map(equipment.map((e) => [e.id, e]))
    this.classes = new Map(classes.map((c) => [c.id, c]))
    this.records = recordHandles(records)
    this.recordTags = records.map(recordTag)
    this.members = 0
    this.bound = 0
    const resolver = new Resolver(this)
    for (const e of equipment)
      for (const leaf of resolver.leavesOf(e)) {
        // What stands for a part of another is counted where it is at home.
        if (leaf.owner.id !== e.id) continue
        this.members++
        if (leaf.fill) this.bound++
      }
    return records.length !== before
  }

  tagsBad(table: LiveTable): number {
    let bad = 0
    for (const t of this.tags.values()) if (qualityOf(table.status[t.handle] ?? 0) !== 'good') bad++
    return bad
  }
}

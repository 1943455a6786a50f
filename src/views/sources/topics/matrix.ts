import type { FamilyMember, HeardFamily } from './heard-families'
import type { TopicLeaf } from './topic-tree'

export interface MatrixColumn {
  key: string
  /** What varies, of the topics under it. */
  label: string
  /** The one topic of this column; null: it has several. */
  topic: string | null
}
export interface MatrixRow {
  label: string
  /** By column; null: nothing was heard there. */
  cells: readonly (TopicLeaf | null)[]
}
export interface Matrix {
  columns: readonly MatrixColumn[]
  rows: readonly MatrixRow[]
}

/**
 * A family as a table: one row a leaf, one column a topic. Where every topic carries one value and two levels or more vary, the
 * last of them makes the rows.
 */
export function matrixOf(family: HeardFamily): Matrix {
  const varying = family.levels.flatMap((level, i) => ('names' in level ? [i] : []))
  if (family.leaves.length === 1 && varying.length >= 2) return byLevel(family, varying)
  const columns = family.topics.map((member) => ({
    key: member.topic,
    label: varying.map((i) => member.topic.split('/')[i]!).join(' / ') || member.topic.split('/').at(-1)!,
    topic: member.topic,
  }))
  const rows = family.leaves.map((name) => ({ label: name || 'value', cells: family.topics.map((member) => member.byName.get(name) ?? null) }))
  return { columns, rows }
}

function byLevel(family: HeardFamily, varying: readonly number[]): Matrix {
  const last = varying.at(-1)!
  const others = varying.slice(0, -1)
  const place = (member: FamilyMember) => {
    const levels = member.topic.split('/')
    return { row: levels[last]!, column: others.map((i) => levels[i]!).join(' / ') }
  }
  const cells = new Map<string, TopicLeaf | null>()
  const columns = new Set<string>()
  for (const member of family.topics) {
    const { row, column } = place(member)
    columns.add(column)
    cells.set(`${row}\n${column}`, member.byName.get(family.leaves[0]!) ?? null)
  }
  const level = family.levels[last]!
  const names = 'names' in level ? level.names : []
  return {
    columns: [...columns].map((label) => ({ key: label, label, topic: null })),
    rows: names.map((label) => ({ label, cells: [...columns].map((column) => cells.get(`${label}\n${column}`) ?? null) })),
  }
}

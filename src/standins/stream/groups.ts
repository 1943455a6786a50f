import { randomUUID } from 'node:crypto'
import { type ErrorCode, errors } from './api'

interface Joining {
  error: ErrorCode
  generation: number
  protocol: string
  leader: string
  member: string
  /** Only for the leader, who hands out the work. */
  members: { id: string; metadata: Buffer }[]
}
interface Syncing {
  error: ErrorCode
  assignment: Buffer
}

interface Member {
  id: string
  sessionMs: number
  protocols: readonly (readonly [string, Buffer])[]
  joined: ((j: Joining) => void) | null
  synced: ((s: Syncing) => void) | null
  assignment: Buffer
  silent: ReturnType<typeof setTimeout> | undefined
}

/** How long the first who comes waits for others, ms. */
const FIRST_WAIT_MS = 50
const nothing = Buffer.alloc(0)

/** Readers that share the partitions of some topics: who is in, who leads, what each was given, how far they are. */
export class ReaderGroup {
  private readonly members = new Map<string, Member>()
  private readonly promised = new Set<string>()
  private state: 'empty' | 'joining' | 'syncing' | 'stable' = 'empty'
  private leader = ''
  private timer: ReturnType<typeof setTimeout> | undefined
  generation = 0
  protocol = ''
  readonly offsets = new Map<string, { offset: bigint; metadata: string | null }>()

  /** An id for somebody new, to come back with. */
  promise(clientId: string): string {
    const id = `${clientId}-${randomUUID()}`
    this.promised.add(id)
    return id
  }

  join(
    o: { id: string; sessionMs: number; rebalanceMs: number; protocols: readonly (readonly [string, Buffer])[] },
    answer: (j: Joining) => void,
  ): void {
    const refuse = (error: ErrorCode) => answer({ error, generation: -1, protocol: '', leader: '', member: o.id, members: [] })
    const known = this.members.get(o.id)
    if (!known && !this.promised.delete(o.id)) return refuse(errors.unknownMemberId)
    const names = new Set(o.protocols.map(([name]) => name))
    const others = [...this.members.values()].filter((m) => m.id !== o.id)
    if (others.some((m) => !m.protocols.some(([name]) => names.has(name)))) return refuse(errors.inconsistentGroupProtocol)
    const member = known ?? { id: o.id, joined: null, synced: null, assignment: nothing, silent: undefined, sessionMs: 0, protocols: [] }
    Object.assign(member, { sessionMs: o.sessionMs, protocols: o.protocols, joined: answer })
    this.members.set(o.id, member)
    this.heard(member)
    this.rebalance(o.rebalanceMs)
  }

  /** All are to join anew; who has not by then is out. */
  private rebalance(withinMs: number): void {
    for (const m of this.members.values()) {
      m.synced?.({ error: errors.rebalanceInProgress, assignment: nothing })
      m.synced = null
    }
    this.state = 'joining'
    clearTimeout(this.timer)
    const all = [...this.members.values()].every((m) => m.joined !== null)
    this.timer = setTimeout(() => this.complete(), all ? FIRST_WAIT_MS : withinMs)
  }

  private complete(): void {
    for (const m of [...this.members.values()]) if (!m.joined) this.drop(m)
    const all = [...this.members.values()]
    if (all.length === 0) return
    this.generation++
    this.leader = all.find((m) => m.id === this.leader)?.id ?? all[0]!.id
    const has = (m: Member, name: string) => m.protocols.some(([known]) => known === name)
    this.protocol = all[0]!.protocols.find(([name]) => all.every((m) => has(m, name)))?.[0] ?? ''
    this.state = 'syncing'
    const metadata = (m: Member) => m.protocols.find(([name]) => name === this.protocol)?.[1] ?? nothing
    for (const m of all) {
      const members = m.id === this.leader ? all.map((one) => ({ id: one.id, metadata: metadata(one) })) : []
      m.joined!({ error: errors.none, generation: this.generation, protocol: this.protocol, leader: this.leader, member: m.id, members })
      m.joined = null
      this.heard(m)
    }
  }

  private drop(m: Member): void {
    clearTimeout(m.silent)
    m.joined?.({ error: errors.unknownMemberId, generation: -1, protocol: '', leader: '', member: m.id, members: [] })
    m.synced?.({ error: errors.unknownMemberId, assignment: nothing })
    this.members.delete(m.id)
    if (this.members.size === 0) this.state = 'empty'
  }

  private heard(m: Member): void {
    clearTimeout(m.silent)
    m.silent = setTimeout(() => this.leave(m.id), m.sessionMs)
  }

  private standing(id: string, generation: number): ErrorCode {
    if (!this.members.has(id)) return errors.unknownMemberId
    if (generation !== this.generation) return errors.illegalGeneration
    return this.state === 'joining' ? errors.rebalanceInProgress : errors.none
  }

  sync(id: string, generation: number, assignments: ReadonlyMap<string, Buffer>, answer: (s: Syncing) => void): void {
    const error = this.standing(id, generation)
    const member = this.members.get(id)
    if (error !== errors.none || !member) return answer({ error, assignment: nothing })
    this.heard(member)
    if (this.state === 'stable') return answer({ error: errors.none, assignment: member.assignment })
    member.synced = answer
    if (id !== this.leader) return
    this.state = 'stable'
    for (const m of this.members.values()) {
      m.assignment = assignments.get(m.id) ?? nothing
      m.synced?.({ error: errors.none, assignment: m.assignment })
      m.synced = null
    }
  }

  heartbeat(id: string, generation: number): ErrorCode {
    const member = this.members.get(id)
    if (member) this.heard(member)
    return this.standing(id, generation)
  }

  leave(id: string): ErrorCode {
    const member = this.members.get(id)
    if (!member) return errors.unknownMemberId
    this.drop(member)
    if (this.members.size > 0) this.rebalance(2000)
    return errors.none
  }

  /** Whether somebody may say how far the group is; who belongs to none may too. */
  mayCommit(id: string, generation: number): ErrorCode {
    return generation < 0 && this.members.size === 0 ? errors.none : this.standing(id, generation)
  }

  stop(): void {
    clearTimeout(this.timer)
    for (const m of [...this.members.values()]) this.drop(m)
  }
}

export class ReaderGroups {
  private readonly all = new Map<string, ReaderGroup>()

  of(name: string): ReaderGroup {
    const group = this.all.get(name) ?? new ReaderGroup()
    this.all.set(name, group)
    return group
  }

  stop(): void {
    for (const group of this.all.values()) group.stop()
  }
}

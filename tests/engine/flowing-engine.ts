// An engine in a process of its own whose tags change all the time, to be killed: started by the tests, which speak to it by messages.
import { realClock } from '~/engine/clock/real-clock'
import { Engine } from '~/engine/engine'
import { openDatabase } from '~/store/database'
import { Vault } from '~/store/vault'

const { url, key, handles, perSecond, workFolder } = JSON.parse(process.env.EMBRIK_FLOW ?? '{}') as {
  url: string
  key: string
  handles: number[]
  perSecond: number
  workFolder: string
}
let set = 0
const clock = { ...realClock, wall: () => realClock.wall() + set }
const engine = new Engine({ clock, db: openDatabase(url, 8), url, vault: new Vault(Buffer.from(key, 'hex')), workFolder })
let flowing = true
process.on('message', (m) => {
  if (m === 'still') flowing = false
  if (m === 'stand') console.log(howItStands())
  if (typeof m === 'object' && m !== null && 'clock' in m) set = Number(m.clock)
})
process.on('disconnect', () => process.exit(0))

/** What destinations and witnesses say of themselves, for a test that waits in vain. */
function howItStands(): string {
  const all = [...engine.destinations.values()].map((d) => {
    const view = d.witness?.view() ?? null
    const ago = (at: number) => Math.round(realClock.mono() - at)
    const sees = view && `connected ${ago(view.connectedAt)} ms ago, clear ${ago(view.clearAt)} ms ago`
    return `${d.destination.name}: ${JSON.stringify(d.present())}, witness ${JSON.stringify(d.witness?.present())}, ${sees}`
  })
  const accounts = [...engine.ledger.accounts.values()].map((a) => {
    const { stored, waiting } = a.counts()
    return `delivery ${a.delivery}: ${stored} stored, ${waiting} wait, ${a.openCount} open, ${a.earlyCount} seen early`
  })
  return `how it stands:\n${[...all, ...accounts].join('\n')}`
}

await engine.start()
process.send?.('up')
const began = Date.now()
let turns = 0
setInterval(() => {
  // As many turns as are due, so that a slow moment does not thin the stream.
  for (; flowing && turns < ((Date.now() - began) * perSecond) / 1000 / handles.length; turns++) {
    const now = Date.now()
    engine.table.apply({ handles, values: handles.map(() => now + turns / 1000), statuses: handles.map(() => 0), times: handles.map(() => now) })
  }
}, 5)

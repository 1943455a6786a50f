import { addAudit } from '~/store/audit'
import { databaseUrl, openDatabase } from '~/store/database'
import { addMasterKey, dropEarlierKeys, keyCount } from '~/store/key-file'
import { resealAll, sealedByOthers } from '~/store/sealed'
import { openVault } from '~/store/vault'

const file = process.env.EMBRIK_MASTER_KEY ? null : (process.env.EMBRIK_MASTER_KEY_FILE ?? null)
const forget = process.argv.includes('--forget-old')
const db = openDatabase(databaseUrl(), 2)

/** Tells it in the audit. */
const tell = (act: string, after: object) =>
  addAudit(db, {
    ...{ who: 'command line', whoId: null, via: 'nobody', address: null, act, subjectKind: 'master key', subjectId: null },
    ...{ subject: 'master key', before: null, after },
  })

async function rotate(): Promise<string> {
  // First it is seen that all can be opened: a key that is added for nothing would only be in the way.
  await resealAll(db, openVault())
  if (file) addMasterKey(file)
  const { resealed, all } = await resealAll(db, openVault())
  await tell('rotateMasterKey', { secrets: all })
  return file
    ? `All ${all} secrets are sealed under a new master key (${resealed} anew). The one before stays in ${file}, for what runs and for backups, until: npm run rotate-key -- --forget-old`
    : `All ${all} secrets are sealed under EMBRIK_MASTER_KEY (${resealed} anew). EMBRIK_MASTER_KEYS_BEFORE is not needed any more, but for backups of before.`
}

async function forgetOld(): Promise<string> {
  if (!file) return 'The keys stand in the environment: take EMBRIK_MASTER_KEYS_BEFORE out of it.'
  if (keyCount(file) === 1) return `${file} holds only the present master key.`
  await resealAll(db, openVault())
  const bringBack = dropEarlierKeys(file)
  // Something may have been on its way into the database under an old key.
  if ((await sealedByOthers(db, openVault())) > 0) {
    bringBack()
    throw new Error('Something was stored under an old key just now: nothing was forgotten. Run it again.')
  }
  await tell('forgetMasterKeys', {})
  return `${file} holds only the present master key. Backups of before need the keys of then: keep those with them.`
}

try {
  console.log(await (forget ? forgetOld() : rotate()))
} finally {
  await db.destroy()
}

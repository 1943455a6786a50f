import { databaseUrl, openDatabase } from '~/store/database'
import { migrate } from '~/store/migrate'
import { setUpToken } from '~/store/person'

const db = openDatabase(databaseUrl(), 2)
try {
  await migrate(db)
  const token = await setUpToken(db)
  if (token) console.log(`Nobody can log in yet. Open the address above and make the first administrator with this set-up token:\n\n    ${token}\n`)
} finally {
  await db.destroy()
}

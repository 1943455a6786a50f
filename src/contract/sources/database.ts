import { z } from 'zod'
import { Id } from '../id'
import { hostField, portField } from './pace'

/** How a PostgreSQL database is reached, to read from it or to write there. */
export const databaseFields = {
  host: hostField.meta({ label: 'Host', group: 'Reach' }),
  port: portField.meta({ label: 'Port', help: '5432 unless they say otherwise', group: 'Reach' }),
  database: z.string().trim().min(1, 'Which database?').max(63).meta({ label: 'Database', group: 'Reach' }),
  tls: z.boolean().meta({ label: 'TLS', group: 'Security' }),
  authorityId: Id.nullable().meta({ label: 'Trusted authority', help: 'Which CA signed the server', group: 'Security' }),
}

import type { Handlers } from '../endpoint'
import { accessHandlers } from './access'
import { configurationHandlers } from './configuration'
import { modelHandlers } from './model'
import { proofHandlers } from './proof'
import { proveHandlers } from './prove'
import { tagHandlers } from './tags'

/** Every endpoint's handler: the type makes sure that none is forgotten. */
export const handlers: Handlers = {
  ...accessHandlers,
  ...configurationHandlers,
  ...tagHandlers,
  ...modelHandlers,
  ...proofHandlers,
  ...proveHandlers,
}

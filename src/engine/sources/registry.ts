import type { SourceDraft } from '~/contract/source'
import type { SourceDriver } from './driver'
import { opcuaDriver } from './opcua/driver'

export const sourceDrivers: Record<SourceDraft['kind'], SourceDriver> = { opcua: opcuaDriver }

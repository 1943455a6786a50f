import type { Plan, PlanEquipment } from '~/contract/publication'
import type { Compression, Settings, ShapeInput, ShapeKind, ShapeSettings } from '~/contract/shape'
import { avroShape } from './avro'
import { cborShape } from './cbor'
import { cloudEvents } from './cloudevents'
import { deviceFacts } from './device-facts'
import { flatJson } from './flat-json'
import { framing, isFramed, unframing } from './framed'
import { messagePack } from './messagepack'
import { nestedJson } from './nested-json'
import { pubsubJson } from './pubsub-json'
import { pubsubUadp } from './pubsub-uadp'
import { rowsShape } from './rows'
import type { Decoder, Description, Encoder, HostFacts, Scope, Series, Shape } from './shape'
import { bareValue, valueQualityTime } from './single'
import { sparkplugB } from './sparkplug'
import { ambiguous } from './sparkplug-metric'
import { freeTemplate } from './template'

/** Every payload format, in the order in which they are offered. */
export const shapes: { readonly [K in ShapeKind]: Shape<K> } = {
  'flat-json': flatJson,
  'nested-json': nestedJson,
  value: bareValue,
  'value-quality-time': valueQualityTime,
  template: freeTemplate,
  rows: rowsShape,
  'sparkplug-b': sparkplugB,
  'pubsub-json': pubsubJson,
  'pubsub-uadp': pubsubUadp,
  cloudevents: cloudEvents,
  avro: avroShape,
  cbor: cborShape,
  messagepack: messagePack,
  'device-facts': deviceFacts,
}
export const shapeKinds = Object.keys(shapes) as ShapeKind[]

/** The shape of the settings, which takes them as its own. */
export function shapeOf<K extends ShapeKind>(settings: Settings<K>): Shape<K> {
  return shapes[settings.kind as K] as unknown as Shape<K>
}

/** Begins settings of a kind: what has no default is given here. */
export const begun: Partial<Record<ShapeKind, Partial<ShapeInput>>> = {
  template: { body: '{"at": ${at}, "equipment": "${equipment}"}' } as Partial<ShapeInput>,
}

type PlanLike = Pick<Plan, 'equipment' | 'messages' | 'publicationId' | 'number' | 'shape'>

/** A message of a plan; `places` are those of its equipment in the publication, where the plan holds only a part of that. */
type Placed = Plan['messages'][number] & { places?: readonly number[] }

/** What each message of a plan is about. Equipment of a message about some members has only those. */
export function scopeOf(plan: PlanLike, message: Placed, host?: HostFacts, series?: Series): Scope {
  const equipment = message.equipment.map((i): PlanEquipment => {
    const one = plan.equipment[i]!
    return message.members === null ? one : { ...one, members: message.members.map((m) => one.members[m]!) }
  })
  return {
    equipment,
    places: message.places ?? message.equipment,
    publicationId: plan.publicationId,
    version: plan.number,
    ...(plan.shape.kind === 'sparkplug-b' && { ambiguousAliases: ambiguous(plan.equipment) }),
    ...(message.schemaId !== undefined && { schemaId: message.schemaId }),
    ...(host && { host }),
    ...(series && { series }),
  }
}

/** Before a go-live a schema has no number yet: 0 stands in its place. */
export function encoderOf(settings: ShapeSettings, scope: Scope): Encoder {
  const encode = shapeOf(settings).encoder(settings, scope)
  return isFramed(settings) ? framing(encode, scope.schemaId ?? 0) : encode
}
export function decoderOf(settings: ShapeSettings, scope: Scope): Decoder {
  const decode = shapeOf(settings).decoder(settings, scope)
  return isFramed(settings) ? unframing(decode, scope.schemaId ?? null) : decode
}
export const describe = (settings: ShapeSettings, scope: Scope, all: readonly Scope[] = [scope]): Description =>
  shapeOf(settings).describe(settings, scope, all)

/** Who speaks on a connection of its own for what a shape makes (Sparkplug 3.0 5.1: one session an edge node); '': nobody. */
export const nodeOf = (shape: ShapeSettings): string => (shape.kind === 'sparkplug-b' ? `${shape.group}/${shape.node}` : '')

/** How payloads are compressed as a whole; within the format does not count. */
export const compressionOf = (settings: ShapeSettings): Compression =>
  'compression' in settings && settings.kind !== 'sparkplug-b' ? settings.compression : 'none'

/** How often everything goes into a message of which else only what changed does: each (1), every n-th, or only the first (0). */
export const wholeEvery = (settings: ShapeSettings): number =>
  'members' in settings && settings.members === 'changed' ? ('fullEvery' in settings ? settings.fullEvery : 0) : 1

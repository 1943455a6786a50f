import type { ShapeSettings } from '~/contract/shape'
import { compressionOf, shapeOf } from '../shape/registry'

const contentTypeOf = (shape: ShapeSettings): string => shapeOf(shape).contentType(shape as never)

/** Whether messages of a shape can stand beside others in one JSON text. */
export const isJson = (shape: ShapeSettings): boolean =>
  compressionOf(shape) === 'none' && /\bjson\b/.test(contentTypeOf(shape)) && !/seq/.test(contentTypeOf(shape))

/** Whether messages of a shape are rows: a JSON object of fields, or a list of such. */
export const isRows = (shape: ShapeSettings): boolean =>
  compressionOf(shape) === 'none' &&
  contentTypeOf(shape).startsWith('application/json') &&
  (shape.kind === 'rows' || shape.kind === 'flat-json' || shape.kind === 'value-quality-time' || shape.kind === 'nested-json')

import type { z } from 'zod'
import { accessRoutes } from './routes/access'
import { destinationsRoutes } from './routes/destinations'
import { modelRoutes } from './routes/model'
import { proofRoutes } from './routes/proof'
import { proveRoutes } from './routes/prove'
import { publicationsRoutes } from './routes/publications'
import { sourcesRoutes } from './routes/sources'
import { tagRoutes } from './routes/tags'

export type { Route } from './routes/route'

/** Every endpoint there is: the web server, the OpenAPI document and the interface's client all read this table. */
export const routes = {
  ...accessRoutes,
  ...sourcesRoutes,
  ...tagRoutes,
  ...modelRoutes,
  ...publicationsRoutes,
  ...destinationsRoutes,
  ...proofRoutes,
  ...proveRoutes,
} as const

export type Routes = typeof routes
export type RouteKey = keyof Routes
export type BodyOf<K extends RouteKey> = Routes[K] extends { body: infer B extends z.ZodType } ? z.output<B> : undefined
export type InputOf<K extends RouteKey> = Routes[K] extends { body: infer B extends z.ZodType } ? z.input<B> : undefined
export type QueryOf<K extends RouteKey> = Routes[K] extends { query: infer Q extends z.ZodType } ? z.output<Q> : undefined
export type AnswerOf<K extends RouteKey> = Routes[K] extends { answer: infer A extends z.ZodType } ? z.output<A> : undefined

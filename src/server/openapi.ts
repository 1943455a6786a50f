import { z } from 'zod'
import { Failure } from '~/contract/failure-form'
import { type Route, routes } from '~/contract/routes'

/** The OpenAPI 3.1.0 document (4.8) of every endpoint, made from the table of routes. */
export function openapi(): object {
  const paths: Record<string, Record<string, object>> = {}
  for (const [operationId, entry] of Object.entries(routes)) {
    const route: Route = entry
    const path = route.path.replace(/:(\w+)/g, '{$1}')
    const parameters = [...route.path.matchAll(/:(\w+)/g)].map((m) => ({
      name: m[1],
      in: 'path',
      required: true,
      schema: { type: 'string' } as object,
    }))
    if (route.query) {
      const schema = z.toJSONSchema(route.query, { io: 'input' }) as { properties?: Record<string, object>; required?: string[] }
      for (const [name, s] of Object.entries(schema.properties ?? {}))
        parameters.push({ name, in: 'query', required: schema.required?.includes(name) ?? false, schema: s })
    }
    const mediaType = route.as
      ? route.as
      : route.stream === 'sse'
        ? 'text/event-stream'
        : route.stream === 'ndjson'
          ? 'application/x-ndjson'
          : 'application/json'
    const failure = { description: 'What went wrong', content: { 'application/json': { schema: { $ref: '#/components/schemas/Failure' } } } }
    ;(paths[path] ??= {})[route.method.toLowerCase()] = {
      operationId,
      summary: route.summary,
      tags: [route.group],
      description: route.role ? `Needs the role ${route.role} or more.` : 'Open to everybody.',
      ...(route.role ? {} : { security: [] }),
      ...(parameters.length > 0 && { parameters }),
      ...(route.body && {
        requestBody: {
          required: true,
          content: route.from
            ? { [route.from]: { schema: { type: 'string' } } }
            : { 'application/json': { schema: z.toJSONSchema(route.body, { io: 'input' }) } },
        },
      }),
      responses: {
        ...(route.answer
          ? {
              200: {
                description: 'Done',
                content: { [mediaType]: { schema: z.toJSONSchema(route.answer, { io: 'output', unrepresentable: 'any' }) } },
              },
            }
          : { 204: { description: 'Done' } }),
        '4XX': failure,
        '5XX': failure,
      },
    }
  }
  return {
    openapi: '3.1.0',
    info: {
      title: 'Embrik',
      version: '0.1.0',
      description: 'Whatever the interface can do can be scripted. Send an API key as `Authorization: Bearer <key>`.',
    },
    security: [{ key: [] }],
    paths,
    components: { schemas: { Failure: z.toJSONSchema(Failure) }, securitySchemes: { key: { type: 'http', scheme: 'bearer' } } },
  }
}

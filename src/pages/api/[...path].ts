import type { APIRoute } from 'astro'
import { ADDRESS_HEADER } from '~/server/address'
import { handlers } from '~/server/api/handlers'
import { dispatch } from '~/server/endpoint'

export const prerender = false

export const ALL: APIRoute = ({ request, locals, clientAddress }) =>
  dispatch(handlers, request, {
    caller: locals.caller,
    token: locals.token,
    address: request.headers.get(ADDRESS_HEADER) ?? clientAddress ?? null,
  })

import { X509Certificate } from 'node:crypto'
import { AttributeIds, type ClientSession, type EndpointDescription, type OPCUAClient, VariableIds } from 'node-opcua-client'
import { FailureError } from '~/contract/failure'
import { weakPolicies } from '~/contract/sources/opcua'
import { pemOf } from '~/core/credential/intake/pem'
import { portFailure, reachSteps, runSteps } from '../../net/steps'
import type { SourceContext, SourceDriver } from '../driver'
import { browse } from './browse'
import {
  askEndpoints,
  chooseEndpoint,
  demandTrusted,
  hostAndPort,
  type OpcUaTarget,
  offered,
  opcuaFailure,
  openChannel,
  openSession,
  shown,
  thumbprintOf,
} from './client'
import { type Link, OpcUaConnection } from './connection'
import { readHistory } from './history'
import { readLimits } from './limits'

/** OPC UA client: OPC 10000-4 sessions and subscriptions over opc.tcp. */
export const opcuaDriver: SourceDriver<'opcua'> = {
  async *check(target, ctx) {
    const { settings } = target
    const own = thumbprintOf(ctx.application.certificate)
    const { host, port } = hostAndPort(settings.endpoint)
    let endpoint: EndpointDescription | null = null
    let client: OPCUAClient | null = null
    let session: ClientSession | null = null
    const explain = (e: unknown) => opcuaFailure(e, own)
    try {
      yield* runSteps(
        [
          ...reachSteps(host, port, 'source'),
          {
            key: 'channel',
            label: 'Secure channel',
            run: async () => {
              endpoint = chooseEndpoint(await askEndpoints(settings, ctx), settings)
              const certificate = shown(endpoint.serverCertificate)
              if (settings.mode === 'None') return 'offered without security: anybody in between can read and change values'
              const weak = weakPolicies.includes(settings.policy) ? '; this policy is no longer safe' : ''
              return {
                detail: `${settings.mode} with ${settings.policy} offered${weak}`,
                ...(certificate && {
                  facts: {
                    serverThumbprint: certificate.thumbprint,
                    serverSha256: certificate.sha256,
                    serverCertificate: pemOf('CERTIFICATE', new Uint8Array(new X509Certificate(endpoint.serverCertificate!).raw)),
                    serverSubject: certificate.subject,
                    serverFrom: certificate.notBefore,
                    serverTo: certificate.notAfter,
                  },
                }),
              }
            },
            explain,
          },
          {
            key: 'server',
            label: 'Server certificate',
            run: async () => {
              const trusted = demandTrusted(endpoint!, settings)
              if (!trusted) return 'none asked for'
              return trusted.old ? `trusted here by its SHA-1: trust it once more to go by SHA-256, ${trusted.pin}` : `trusted here, ${trusted.pin}`
            },
          },
          {
            key: 'trusted',
            label: 'Certificate trusted',
            run: async () => {
              client = await openChannel(endpoint!, settings, ctx)
              return settings.mode === 'None' ? 'no certificate asked for' : `the server accepts ours, ${own}`
            },
            explain: (e) => {
              const failure = explain(e)
              return failure.code === 'opcua.failed' && settings.mode !== 'None'
                ? {
                    code: 'opcua.not-trusted',
                    message: 'The server ended the connection when it saw the certificate of Embrik',
                    hint: `Most likely somebody there must trust it once: thumbprint ${own}. Then check again`,
                    where: 'source',
                  }
                : failure
            },
          },
          {
            key: 'session',
            label: 'Session',
            run: async () => {
              session = await openSession(client!, target)
              return settings.login === 'user'
                ? `logged in as ${settings.user}`
                : `logged in ${settings.login === 'certificate' ? 'by certificate' : 'as anonymous'}`
            },
          },
          {
            key: 'read',
            label: 'First read',
            run: async () => {
              const now = await session!.read({ nodeId: `ns=0;i=${VariableIds.Server_ServerStatus_CurrentTime}`, attributeId: AttributeIds.Value })
              if (now.statusCode.isNotGood()) throw new Error(`reading the server's clock: ${now.statusCode.name}`)
              const ahead = (now.value.value as Date).getTime() - Date.now()
              const skew =
                Math.abs(ahead) < 1000 ? 'agrees with ours' : `is ${(Math.abs(ahead) / 1000).toFixed(1)} s ${ahead > 0 ? 'ahead' : 'behind'}`
              return `the server's clock ${skew}`
            },
          },
        ],
        explain,
      )
    } finally {
      await (session as ClientSession | null)?.close().catch(() => undefined)
      await (client as OPCUAClient | null)?.disconnect().catch(() => undefined)
    }
  },

  async browse(target, ctx, address, deep) {
    const { session, end } = await connect(target, ctx)
    try {
      return await browse(session, await readLimits(session), address, deep)
    } catch (e) {
      throw new FailureError(opcuaFailure(e, thumbprintOf(ctx.application.certificate)), 502)
    } finally {
      await end()
    }
  },

  async endpoints(endpoint, ctx) {
    try {
      return offered(await askEndpoints({ endpoint }, ctx))
    } catch (e) {
      const { host, port } = hostAndPort(endpoint)
      const code = (e as { code?: string }).code ?? ''
      throw new FailureError(
        /ECONN|ETIMEDOUT|EHOST|ENET/.test(code) ? portFailure(e, host, port, 'source') : opcuaFailure(e, thumbprintOf(ctx.application.certificate)),
        502,
      )
    }
  },

  async history(target, ctx, address, from, to, how) {
    const { session, end } = await connect(target, ctx)
    try {
      return await readHistory(session, address, from, to, how)
    } catch (e) {
      throw new FailureError(opcuaFailure(e, thumbprintOf(ctx.application.certificate)), 502)
    } finally {
      await end()
    }
  },

  async open(target, ctx, sink) {
    const link = await connect(target, ctx)
    return OpcUaConnection.start(link, target, sink, thumbprintOf(ctx.application.certificate))
  },
}

async function connect(target: OpcUaTarget, ctx: SourceContext): Promise<Link> {
  let client: OPCUAClient | null = null
  try {
    const endpoint = chooseEndpoint(await askEndpoints(target.settings, ctx), target.settings)
    demandTrusted(endpoint, target.settings)
    client = await openChannel(endpoint, target.settings, ctx)
    const session = await openSession(client, target)
    const opened = client
    return {
      client,
      session,
      end: async () => {
        await session.close().catch(() => undefined)
        await opened.disconnect().catch(() => undefined)
      },
    }
  } catch (e) {
    await client?.disconnect().catch(() => undefined)
    throw new FailureError(opcuaFailure(e, thumbprintOf(ctx.application.certificate)), 502)
  }
}

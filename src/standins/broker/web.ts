import { createServer as createPlain, type IncomingMessage, type Server } from 'node:http'
import { createServer as createSecure } from 'node:https'
import type { Duplex } from 'node:stream'
import { createWebSocketStream, WebSocketServer } from 'ws'

/** Where the broker takes WebSockets. */
export const WEB_PATH = '/mqtt'

/** A server that takes WebSockets for MQTT (MQTT 5 6) at one path; `accept` gets each as a stream, with the request that began it. */
export function webServer(tls: { cert: string; key: string } | null, accept: (stream: Duplex, request: IncomingMessage) => void): Server {
  const sockets = new WebSocketServer({ noServer: true, perMessageDeflate: false, handleProtocols: (asked) => (asked.has('mqtt') ? 'mqtt' : false) })
  const server = tls ? createSecure(tls) : createPlain()
  server.on('request', (_, answer) => answer.writeHead(404).end('nothing here\n'))
  server.on('upgrade', (request, socket: Duplex, head) => {
    const path = new URL(request.url ?? '/', 'http://broker').pathname
    if (path !== WEB_PATH) {
      socket.end('HTTP/1.1 404 Not Found\r\nconnection: close\r\ncontent-length: 0\r\n\r\n')
      return
    }
    sockets.handleUpgrade(request, socket, head, (ws) => {
      const stream = createWebSocketStream(ws)
      stream.on('error', () => undefined)
      accept(stream, request)
    })
  })
  return server as Server
}

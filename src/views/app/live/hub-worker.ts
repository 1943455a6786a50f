import { Hub, type Said } from './hub'

// Runs once for all pages of a browser.
const hub = new Hub()
;(self as unknown as { onconnect: (e: MessageEvent) => void }).onconnect = (e) => {
  const port = e.ports[0]!
  port.onmessage = (m: MessageEvent<Said>) => hub.said(port, m.data, (h) => port.postMessage(h))
}

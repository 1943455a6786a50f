import { once } from 'node:events'
import { connect } from 'node:net'
import { expect, it } from 'vitest'
import { ControlServer } from '~/engine/control/server'
import { Engine } from '~/engine/engine'
import { pause } from './scene'
import { folder, freePort, freshDatabase, until } from './support'

it('a connection of the web server that was idle for long takes the next question: the engine never ends one while it may be on its way', async () => {
  const t = await freshDatabase()
  const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('control') })
  await engine.start()
  const port = await freePort()
  const control = await ControlServer.start(engine, { host: '127.0.0.1', port, secret: 's' })
  const socket = connect(port, '127.0.0.1')
  let told = ''
  let ended = false
  socket.on('data', (octets) => (told += octets.toString('latin1')))
  socket.on('close', () => (ended = true))
  await once(socket, 'connect')
  const ask = async () => {
    told = ''
    const body = JSON.stringify({ id: '00000000-0000-4000-8000-000000000000', address: '', deep: false })
    socket.write(
      `POST /sources/browse HTTP/1.1\r\nhost: embrik\r\nx-embrik-secret: s\r\ncontent-type: application/json\r\ncontent-length: ${body.length}\r\n\r\n${body}`,
    )
    await until(() => told.includes('}') || ended, 'an answer', 30)
    return told.split('\r\n')[0]
  }
  const first = await ask()
  expect(first).toMatch(/^HTTP\/1\.1 4/)
  // Node ends an idle connection after 5 s by itself.
  await pause(9000)
  expect(ended).toBe(false)
  expect(await ask()).toBe(first)
  socket.destroy()
  await control.stop()
  await engine.stop()
  await t.drop()
})

import { fail } from '~/contract/failure'
import type { Caller } from '~/contract/person'
import { stillValid } from './session'

/** How often a stream looks whether its session still stands, ms. */
const LOOK_EVERY_MS = 5000
/** So many streams may one person or key have at once. */
const STREAMS_MAX = 40

const open = new Map<string, number>()

/** Passes a stream on until the reader goes or the session ends; either ends the engine's side too. */
export function whileAllowed(body: ReadableStream<Uint8Array>, request: Request, caller: Caller): ReadableStream<Uint8Array> {
  const who = `${caller.kind} ${caller.id}`
  const now = open.get(who) ?? 0
  if (now >= STREAMS_MAX) {
    void body.cancel().catch(() => undefined)
    throw fail(429, 'access.streams', `${caller.name} has ${now} streams open already`, 'Close some tabs or scripts', 'web')
  }
  open.set(who, now + 1)
  const reader = body.getReader()
  let timer: NodeJS.Timeout | undefined
  let over = false
  const end = () => {
    clearInterval(timer)
    if (over) return
    over = true
    const left = (open.get(who) ?? 1) - 1
    if (left > 0) open.set(who, left)
    else open.delete(who)
  }
  return new ReadableStream({
    start(controller) {
      timer = setInterval(() => {
        stillValid(request)
          .then((valid) => {
            if (valid || over) return
            end()
            void reader.cancel().catch(() => undefined)
            controller.close()
          })
          .catch(() => undefined)
      }, LOOK_EVERY_MS)
    },
    async pull(controller) {
      try {
        const { done, value } = await reader.read()
        if (over) return
        if (!done) return controller.enqueue(value)
        end()
        controller.close()
      } catch (e) {
        if (over) return
        end()
        controller.error(e)
      }
    },
    cancel() {
      end()
      return reader.cancel()
    },
  })
}

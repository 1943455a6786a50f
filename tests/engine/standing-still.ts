// A process whose loop stands still when it is told to: started by the tests.
import { inCompartment, startWatchdog } from '~/engine/watchdog'

const { file, everyMs, looks } = JSON.parse(process.env.EMBRIK_STILL ?? '{}') as { file: string; everyMs: number; looks: number }
startWatchdog({ file, everyMs, looks })
process.on('message', (m) => {
  if (m === 'busy') {
    // Long, and yet it comes back.
    const end = Date.now() + (everyMs * looks) / 3
    inCompartment('source Dryers', () => {
      while (Date.now() < end);
    })
    process.send?.('back')
  } else
    inCompartment('engine', () =>
      inCompartment('publication Kiln', () => {
        for (;;);
      }),
    )
})
process.on('disconnect', () => process.exit(0))
setInterval(() => undefined, 1000)
process.send?.('up')

/** Pages of one browser tell each other that somebody has logged out. */
const channel = typeof BroadcastChannel === 'undefined' ? null : new BroadcastChannel('embrik')
const LOGGED_OUT = 'logged out'

channel?.addEventListener('message', (e: MessageEvent<unknown>) => {
  if (e.data === LOGGED_OUT) location.assign('/login')
})

/** Nobody is logged in any more: this page and all others of the browser go to the log-in. */
export function leaveAll(): void {
  channel?.postMessage(LOGGED_OUT)
  location.assign('/login')
}

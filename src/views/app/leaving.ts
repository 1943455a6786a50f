/** Pages of one browser tell each other that somebody has logged out. */
const channel = typeof BroadcastChannel === 'undefined' ? null : new BroadcastChannel('embrik')
const LOGGED_OUT = 'logged out'

let leaving = false

/** To the log-in, once, however many notice that nobody is logged in any more; `back`: this page is wanted again afterwards. */
export function toLogIn(back: boolean): void {
  if (leaving) return
  leaving = true
  location.assign(back ? `/login?next=${encodeURIComponent(location.pathname + location.search)}` : '/login')
}

// A page that Back brings out of the browser's memory begins anew.
if (typeof window !== 'undefined') window.addEventListener('pageshow', () => (leaving = false))

channel?.addEventListener('message', (e: MessageEvent<unknown>) => {
  if (e.data === LOGGED_OUT) toLogIn(false)
})

/** Somebody has logged out: this page and all others of the browser go to the log-in. */
export function leaveAll(): void {
  channel?.postMessage(LOGGED_OUT)
  toLogIn(false)
}

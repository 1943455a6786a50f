import { useSyncExternalStore } from 'react'

export type Theme = 'light' | 'dark'
const listeners = new Set<() => void>()

/** The page's head sets it before anything is drawn; here it is changed and remembered. */
export function setTheme(theme: Theme): void {
  document.documentElement.dataset.theme = theme
  localStorage.setItem('theme', theme)
  for (const l of listeners) l()
}

export function useTheme(): Theme {
  return useSyncExternalStore(
    (l) => {
      listeners.add(l)
      return () => listeners.delete(l)
    },
    () => (document.documentElement.dataset.theme === 'dark' ? 'dark' : 'light'),
  )
}

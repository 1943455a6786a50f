import { chromium as driver } from '@playwright/test'
import { chromium, installDebian } from './packages.mjs'

/** Debian's Chromium, headless, that looks up nothing on the network by itself. */
export async function openBrowser() {
  if (!chromium()) await installDebian(['chromium'])
  return driver.launch({ executablePath: chromium(), args: browserArgs })
}

export const browserArgs = [
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
]

/** Logs a page in over the API, as the log-in form does. */
export async function logIn(page, base, login, password) {
  await page.goto(`${base}/login`)
  await page.getByLabel('Log-in').fill(login)
  await page.getByLabel('Password').fill(password)
  await page.getByRole('button', { name: 'Log in' }).click()
  await page.waitForURL((url) => !url.pathname.startsWith('/login'))
}

/** What passwords are most often made of, and what is tried first by whoever guesses. */
const COMMON = new Set(
  `password passwort motdepasse contrasena senha parola haslo wachtwoord passw letmein welcome willkommen bienvenue admin administrator root user guest test
  testing default changeme change secret login access master manager operator engineer viewer qwerty qwertz azerty qwertyuiop asdfgh asdfghjkl zxcvbnm
  iloveyou loveyou sunshine princess dragon monkey football baseball basketball superman batman shadow michael jordan summer winter spring autumn monday
  freedom whatever trustno trustnoone computer internet server database embrik mqtt broker factory plant scada`.split(/\s+/),
)
const ROWS = [
  'abcdefghijklmnopqrstuvwxyz',
  '01234567890123456789',
  'qwertyuiop',
  'qwertzuiop',
  'azertyuiop',
  'asdfghjkl',
  'zxcvbnm',
  '1q2w3e4r5t6z7u8i9o0p',
  '1q2w3e4r5t6y7u8i9o0p',
  '1qaz2wsx3edc4rfv5tgb',
]
const FEWEST = 5
const LEET: Record<string, string> = { '0': 'o', '1': 'i', '3': 'e', '4': 'a', '5': 's', '7': 't', '@': 'a', $: 's', '!': 'i' }

const letters = (text: string) => text.replace(/[^\p{L}]+/gu, '')
const unleet = (text: string) => text.replace(/[013457@$!]/g, (c) => LEET[c]!)

/**
 * Why a password is one of the first that somebody would try; null: it is not. `about`: names that belong to its owner.
 * `commonness('P4ssw0rd2026!')` tells that it is a common one.
 */
export function commonness(password: string, about: readonly string[] = []): string | null {
  const small = password.toLowerCase()
  if (new Set(small).size < FEWEST) return 'Too few different characters'
  const body = small.replace(/[\d\W_]+$/, '')
  if (body.length >= 6 && ROWS.some((row) => row.includes(body) || [...row].reverse().join('').includes(body)))
    return 'A row of keys, letters or numbers: others try it first'
  const cores = new Set([letters(small), letters(unleet(small)), letters(unleet(small.replace(/[\d\W_]+$/, '')))])
  if (cores.has('')) return 'Only numbers and signs: others try it first'
  for (const core of cores) {
    if (COMMON.has(core)) return 'One of the most common passwords: others try it first'
    const half = core.slice(0, core.length / 2)
    if (core.length % 2 === 0 && half + half === core && COMMON.has(half)) return 'A common password twice: others try it first'
  }
  for (const name of about) {
    const own = letters(name.toLowerCase())
    if (own.length >= 3 && [...cores].some((core) => core === own)) return 'Made of your own name: others try it first'
  }
  return null
}

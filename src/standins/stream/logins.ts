import { createHash, createHmac, pbkdf2Sync, randomBytes, timingSafeEqual } from 'node:crypto'

export const mechanisms = ['PLAIN', 'SCRAM-SHA-256', 'SCRAM-SHA-512'] as const
export type Mechanism = (typeof mechanisms)[number]

/** What a log-in in steps says next: an answer, whether it is over, and who it was. */
export type Said = { kind: 'answer'; octets: Buffer } | { kind: 'in'; octets: Buffer; user: string } | { kind: 'refused'; words: string }

/** Passwords by user. */
export type Users = Readonly<Record<string, string>>

const refused: Said = { kind: 'refused', words: 'Authentication failed: credentials are wrong' }

/** One log-in by SASL: each octets of the client get an answer. */
export interface Login {
  said(octets: Buffer): Said
}

/** PLAIN (RFC 4616): user and password in one message. */
class Plain implements Login {
  constructor(private readonly users: Users) {}

  said(octets: Buffer): Said {
    const [, user = '', password = ''] = octets.toString('utf8').split('\0')
    return Object.hasOwn(this.users, user) && this.users[user] === password ? { kind: 'in', octets: Buffer.alloc(0), user } : refused
  }
}

const ITERATIONS = 4096
const unescaped = (name: string) => name.replaceAll('=2C', ',').replaceAll('=3D', '=')

/** SCRAM (RFC 5802, 7677): neither side tells the password. */
class Scram implements Login {
  private user = ''
  private first = ''
  private readonly salt = randomBytes(16)
  private nonce = ''
  private asked = ''

  constructor(
    private readonly users: Users,
    private readonly hash: 'sha256' | 'sha512',
  ) {}

  said(octets: Buffer): Said {
    return this.asked === '' ? this.begin(octets.toString('utf8')) : this.prove(octets.toString('utf8'))
  }

  private begin(text: string): Said {
    const found = /^n,[^,]*,(n=([^,]*),r=([^,]+).*)$/.exec(text)
    if (!found) return refused
    this.first = found[1]!
    this.user = unescaped(found[2]!)
    this.nonce = found[3]! + randomBytes(18).toString('base64url')
    this.asked = `r=${this.nonce},s=${this.salt.toString('base64')},i=${ITERATIONS}`
    return { kind: 'answer', octets: Buffer.from(this.asked) }
  }

  private prove(text: string): Said {
    const found = /^(c=([^,]+),r=([^,]+)),p=(.+)$/.exec(text)
    // Who nobody knows is asked for a proof too, and fails like a wrong password.
    const password = Object.hasOwn(this.users, this.user) ? this.users[this.user]! : null
    // The C client writes its own part of the nonce before the whole of it: it is the end that counts.
    if (!found || !found[3]!.endsWith(this.nonce) || password === null) return refused
    const size = this.hash === 'sha256' ? 32 : 64
    const salted = pbkdf2Sync(password.normalize('NFKC'), this.salt, ITERATIONS, size, this.hash)
    const mac = (key: Buffer, of: string) => createHmac(this.hash, key).update(of).digest()
    const said = `${this.first},${this.asked},${found[1]}`
    const clientKey = mac(salted, 'Client Key')
    const signature = mac(createHash(this.hash).update(clientKey).digest(), said)
    const proof = Buffer.from(found[4]!, 'base64')
    const right = Buffer.from(clientKey.map((octet, i) => octet ^ signature[i]!))
    if (proof.length !== right.length || !timingSafeEqual(proof, right)) return refused
    return { kind: 'in', octets: Buffer.from(`v=${mac(mac(salted, 'Server Key'), said).toString('base64')}`), user: this.user }
  }
}

export function beginLogin(mechanism: Mechanism, users: Users): Login {
  return mechanism === 'PLAIN' ? new Plain(users) : new Scram(users, mechanism === 'SCRAM-SHA-256' ? 'sha256' : 'sha512')
}

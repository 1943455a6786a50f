import { expect, it } from 'vitest'
import { commonness } from './password'

it.each([
  '1234567890',
  '0987654321',
  'qwertyuiop',
  'qwertyuiop12',
  'password123',
  'P4ssw0rd2026!',
  'PASSWORD!!!!',
  'passwordpassword',
  'letmein2026',
  'Welcome2026!',
  'administrator',
  'aaaaaaaaaa',
  'abababababab',
  'abcdefghij',
  '1q2w3e4r5t6z',
  '2026-11-27!!',
  'embrik1234',
  'changeme99',
])('%s is refused', (password) => expect(commonness(password)).not.toBeNull())

it.each([
  'varnmoor-engineer-2',
  'long enough',
  'another long one',
  'correct horse battery',
  'kiln 7 burns at 1045',
  'zV9#qL2p!mX4',
  'Ofenwagen im Tunnel',
])('%s is taken', (password) => expect(commonness(password)).toBeNull())

it('nor is one that is made of its owner', () => {
  expect(commonness('InesLoam1987', ['Ines Loam', 'ines'])).toContain('your own name')
  expect(commonness('inesinesines', ['Ines Loam', 'ines'])).not.toBeNull()
  expect(commonness('the kiln of Ines', ['Ines Loam', 'ines'])).toBeNull()
})

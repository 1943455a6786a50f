import { dirname, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'
import { build } from './lib/build.mjs'
import { giveUp, step } from './lib/steps.mjs'

const root = resolve(dirname(fileURLToPath(import.meta.url)), '..')
await step('Build', () => build(root)).catch(giveUp)

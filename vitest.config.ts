import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vitest/config'

const alias = { '~': fileURLToPath(new URL('./src', import.meta.url)) }

export default defineConfig({
  resolve: { alias },
  test: {
    projects: [
      // They compute, and share what they import: a start for each file would take longer than the tests. Some hash for long, and a busy machine makes it longer.
      {
        resolve: { alias },
        test: { name: 'unit', include: ['src/**/*.test.ts', 'scripts/**/*.test.ts'], testTimeout: 120_000, pool: 'threads', isolate: false },
      },
      { resolve: { alias }, test: { name: 'worlds', include: ['tests/worlds/**/*.test.ts'], testTimeout: 600_000 } },
      // Each file brings up real sockets and has databases of its own on one server. They mostly wait: three at a time.
      {
        resolve: { alias },
        test: { name: 'engine', include: ['tests/engine/**/*.test.ts'], testTimeout: 300_000, hookTimeout: 300_000, maxWorkers: 3, isolate: false },
      },
    ],
  },
})

import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vitest/config'

const alias = { '~': fileURLToPath(new URL('./src', import.meta.url)) }

export default defineConfig({
  resolve: { alias },
  test: {
    projects: [
      { resolve: { alias }, test: { name: 'unit', include: ['src/**/*.test.ts', 'scripts/**/*.test.ts'], testTimeout: 20_000 } },
      { resolve: { alias }, test: { name: 'worlds', include: ['tests/worlds/**/*.test.ts'], testTimeout: 600_000 } },
      // Each file brings up real sockets and shares one database server: one after the other.
      {
        resolve: { alias },
        test: { name: 'engine', include: ['tests/engine/**/*.test.ts'], testTimeout: 300_000, hookTimeout: 300_000, fileParallelism: false },
      },
    ],
  },
})

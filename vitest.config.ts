/// <reference types="vitest/config" />
import { getViteConfig } from 'astro/config'

export default getViteConfig({
  test: {
    projects: [
      { extends: true, test: { name: 'unit', include: ['src/**/*.test.ts'], testTimeout: 20_000 } },
      // Each file brings up real sockets and shares one database server: one after the other.
      { extends: true, test: { name: 'engine', include: ['tests/engine/**/*.test.ts'], testTimeout: 120_000, hookTimeout: 60_000, fileParallelism: false } },
    ],
  },
} as never)

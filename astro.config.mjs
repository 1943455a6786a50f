import { fileURLToPath } from 'node:url'
import node from '@astrojs/node'
import react from '@astrojs/react'
import tailwindcss from '@tailwindcss/vite'
import { defineConfig, passthroughImageService } from 'astro/config'

export default defineConfig({
  output: 'server',
  outDir: './dist/web',
  adapter: node({ mode: 'middleware' }),
  integrations: [react()],
  image: { service: passthroughImageService() },
  // The guide has little code, and colours of its own.
  markdown: { syntaxHighlight: false },
  devToolbar: { enabled: false },
  // Cross-site requests are refused in src/middleware.ts, which knows API keys from cookies.
  security: { checkOrigin: false },
  server: { host: '127.0.0.1', port: Number(process.env.EMBRIK_PORT_BASE ?? 4600) },
  vite: {
    plugins: [tailwindcss()],
    // Workers are bundled apart, without Astro's own reading of tsconfig paths.
    resolve: { alias: { '~': fileURLToPath(new URL('./src', import.meta.url)) } },
    worker: { format: 'es' },
    ssr: { noExternal: ['lucide-react', 'recharts'] },
    build: { chunkSizeWarningLimit: 1500 },
  },
})

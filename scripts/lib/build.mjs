import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { extname, join } from 'node:path'
import { constants, gzipSync } from 'node:zlib'
import { run } from './run.mjs'

const watched = [
  'src',
  'scripts/seed.ts',
  'scripts/migrate.ts',
  'scripts/rotate-key.ts',
  'astro.config.mjs',
  'package-lock.json',
  'tsconfig.json',
  'scripts/lib/build.mjs',
  'public',
]

function newest(path) {
  if (!existsSync(path)) return 0
  const info = statSync(path)
  if (!info.isDirectory()) return info.mtimeMs
  return Math.max(info.mtimeMs, ...readdirSync(path).map((f) => newest(join(path, f))))
}

/** Whether the build is older than what it is made from. */
export function stale(root) {
  const stamp = join(root, 'dist', 'built')
  if (!existsSync(stamp)) return true
  return Math.max(...watched.map((w) => newest(join(root, w)))) > statSync(stamp).mtimeMs
}

/** Bundles the processes that Astro doesn't: engine, stand-ins, web server, tools. Packages stay outside. */
export async function buildNode(root) {
  const { build } = await import('esbuild')
  await build({
    absWorkingDir: root,
    entryPoints: {
      engine: 'src/engine/main.ts',
      previews: 'src/engine/publications/preview-thread.ts',
      scripts: 'src/engine/scripts/script-thread.ts',
      standins: 'src/standins/main.ts',
      web: 'src/server/main.ts',
      migrate: 'scripts/migrate.ts',
      'rotate-key': 'scripts/rotate-key.ts',
      seed: 'scripts/seed.ts',
    },
    outdir: 'dist/bin',
    outExtension: { '.js': '.mjs' },
    bundle: true,
    platform: 'node',
    target: 'node20',
    format: 'esm',
    packages: 'external',
    sourcemap: 'linked',
    logLevel: 'error',
  })
}

/** Builds everything into dist/. */
export async function build(root) {
  const env = { ...process.env, ASTRO_TELEMETRY_DISABLED: '1', NODE_ENV: 'production' }
  await Promise.all([
    buildNode(root),
    run(process.execPath, [join(root, 'node_modules', 'astro', 'astro.js'), 'build', '--silent'], { cwd: root, env }),
  ])
  squeeze(join(root, 'dist', 'web', 'client'))
  mkdirSync(join(root, 'dist'), { recursive: true })
  writeFileSync(join(root, 'dist', 'built'), new Date().toISOString())
}

/** Puts a compressed copy beside every text asset. */
function squeeze(folder) {
  for (const file of readdirSync(folder)) {
    const path = join(folder, file)
    if (statSync(path).isDirectory()) squeeze(path)
    else if (['.js', '.css', '.svg', '.html', '.json'].includes(extname(file)) && statSync(path).size > 1000)
      writeFileSync(`${path}.gz`, gzipSync(readFileSync(path), { level: constants.Z_BEST_COMPRESSION }))
  }
}

import { readFile } from 'node:fs/promises'
import { join } from 'node:path'
import { build, type Plugin } from 'esbuild'

/** Puts other numbers in the place of constants: each must stand in a file once. */
function withConstants(constants: Record<string, number>): Plugin {
  return {
    name: 'constants',
    setup(b) {
      const missing = new Set(Object.keys(constants))
      b.onLoad({ filter: /\/src\/.*\.ts$/ }, async ({ path }) => {
        let contents = await readFile(path, 'utf8')
        for (const [name, n] of Object.entries(constants))
          contents = contents.replace(new RegExp(`^((?:export )?const ${name} = )[\\d_]+$`, 'm'), (_, before: string) => {
            missing.delete(name)
            return before + n
          })
        return { contents, loader: 'ts' }
      })
      b.onEnd(() => (missing.size > 0 ? { errors: [{ text: `no such constant: ${[...missing].join(', ')}` }] } : undefined))
    },
  }
}

/** Makes one file of a program for a process or thread of its own; inside the checkout, so that packages are found. Gives its path. */
export async function bundled(entry: string, name: string, constants: Record<string, number> = {}): Promise<string> {
  const file = join(process.cwd(), 'dist', 'test', name)
  await build({
    entryPoints: [entry],
    outfile: file,
    bundle: true,
    platform: 'node',
    target: 'node20',
    format: 'esm',
    packages: 'external',
    logLevel: 'error',
    plugins: Object.keys(constants).length > 0 ? [withConstants(constants)] : [],
  })
  return file
}

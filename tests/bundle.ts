import { join } from 'node:path'
import { build } from 'esbuild'

/** Makes one file of a program for a process or thread of its own; inside the checkout, so that packages are found. Gives its path. */
export async function bundled(entry: string, name: string): Promise<string> {
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
  })
  return file
}

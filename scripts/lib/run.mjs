import { spawn } from 'node:child_process'

/** Runs a command to its end; rejects with its last `lines` when it fails. `show` passes its output through. */
export function run(command, args, { show = false, lines = 30, ...options } = {}) {
  return new Promise((done, failed) => {
    const child = spawn(command, args, { stdio: show ? ['ignore', 'inherit', 'inherit'] : ['ignore', 'pipe', 'pipe'], ...options })
    let text = ''
    const keep = (chunk) => {
      text = (text + chunk).slice(-100_000)
    }
    child.stdout?.on('data', keep)
    child.stderr?.on('data', keep)
    child.on('error', failed)
    child.on('close', (code) =>
      code === 0
        ? done(text)
        : failed(new Error(`${command} ${args.join(' ')} ended with ${code}\n${text.trim().split('\n').slice(-lines).join('\n')}`)),
    )
  })
}

/** Whether a command runs and ends well. */
export async function works(command, args) {
  return run(command, args).then(
    () => true,
    () => false,
  )
}

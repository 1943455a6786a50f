/** Runs a step and shows it with its time; `work` may return a few words to add. Steps that run beside others show only their end. */
export async function step(label, work, beside = false) {
  const began = Date.now()
  if (process.stdout.isTTY && !beside) process.stdout.write(`  .. ${label}`)
  try {
    const words = await work()
    line('ok', label, began, words)
  } catch (e) {
    line('!!', label, began)
    throw e
  }
}

function line(mark, label, began, words) {
  const seconds = ((Date.now() - began) / 1000).toFixed(1).padStart(6)
  const text = `  ${mark} ${label.padEnd(34)} ${seconds} s${words ? `   ${words}` : ''}`
  process.stdout.write(process.stdout.isTTY ? `\r\x1b[K${text}\n` : `${text}\n`)
}

/** Ends the script with one line, without a stack: for what people can mend. */
export function giveUp(e) {
  console.error(`\n${e instanceof Error ? e.message : String(e)}`)
  process.exit(1)
}

import { lookup } from 'node:dns/promises'
import { connect } from 'node:net'
import type { CheckStep, Failure } from '~/contract/failure'
import { FailureError } from '~/contract/failure'
import { wordsOf } from '../log'
import { reach } from './reach'

export interface StepPlan {
  key: string
  label: string
  /** Does the work; the answer is the detail, with facts if there are any. Throws what went wrong. */
  run(): Promise<string | { detail: string; facts?: Record<string, string> }>
  /** Puts what went wrong into words with what to do. */
  explain?(e: unknown): Failure
}

/** Runs steps in order, each yielded as running and as done; after the first failure the rest is skipped. */
export async function* runSteps(steps: readonly StepPlan[], fallback: (e: unknown) => Failure): AsyncGenerator<CheckStep> {
  let failed = false
  for (const step of steps) {
    const base = { key: step.key, label: step.label }
    if (failed) {
      yield { ...base, state: 'skipped', detail: 'not tried', ms: null }
      continue
    }
    yield { ...base, state: 'running', detail: '', ms: null }
    const began = performance.now()
    try {
      const out = await step.run()
      const ms = performance.now() - began
      yield typeof out === 'string'
        ? { ...base, state: 'passed', detail: out, ms }
        : { ...base, state: 'passed', detail: out.detail, ms, ...(out.facts && { facts: out.facts }) }
    } catch (e) {
      failed = true
      const failure = e instanceof FailureError ? e.failure : (step.explain ?? fallback)(e)
      yield { ...base, state: 'failed', detail: failure.message, ms: performance.now() - began, failure }
    }
  }
}

/** The first two steps of every check over TCP: the name resolves, the port answers. */
export function reachSteps(host: string, port: number, where: Failure['where']): StepPlan[] {
  return [
    {
      key: 'name',
      label: 'Name',
      run: async () => {
        const found = await lookup(host)
        reach.demand(found.address, port, host)
        return found.address === host ? `${host} is an address` : `${host} is ${found.address}`
      },
      explain: () => ({
        code: 'name.unknown',
        message: `The name ${host} cannot be resolved`,
        hint: 'Check the spelling, or use the IP address; this machine may use another name server than the device',
        where,
      }),
    },
    {
      key: 'port',
      label: 'Port',
      run: () => tryPort(host, port),
      explain: (e) => portFailure(e, host, port, where),
    },
  ]
}

/** Whether somebody answers on a port; rejects with the error of the socket. */
export function tryPort(host: string, port: number): Promise<string> {
  return new Promise((done, failed) => {
    const socket = connect(reach.to(host, port))
    socket.setTimeout(5000, () => socket.destroy(Object.assign(new Error('timed out'), { code: 'ETIMEDOUT' })))
    socket.once('connect', () => {
      // A door that is shut right after opening resets at once: give it the moment in which it would.
      const settle = setTimeout(() => {
        socket.destroy()
        done(`${port} answers`)
      }, 30)
      socket.once('close', (hadError) => {
        if (hadError) clearTimeout(settle)
      })
    })
    socket.once('error', failed)
  })
}

export function portFailure(e: unknown, host: string, port: number, where: Failure['where']): Failure {
  if (e instanceof FailureError) return { ...e.failure, where }
  const code = (e as { code?: string }).code
  if (code === 'ECONNREFUSED')
    return {
      code: 'port.refused',
      message: `Nothing listens on port ${port} of ${host}`,
      hint: 'Check the port, and that the server is running',
      where,
    }
  if (code === 'ETIMEDOUT' || code === 'EHOSTUNREACH' || code === 'ENETUNREACH')
    return {
      code: 'port.silent',
      message: `No answer from ${host}:${port}`,
      hint: 'A firewall may be in between, or the device is off the network',
      where,
    }
  if (code === 'ECONNRESET')
    return {
      code: 'port.reset',
      message: `${host}:${port} accepts and hangs up at once`,
      hint: 'Something in between, or the server itself, refuses this machine for now',
      where,
    }
  return { code: 'port.failed', message: `${host}:${port}: ${wordsOf(e)}`, hint: 'Check host and port', where }
}

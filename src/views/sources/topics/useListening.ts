import { useEffect, useRef, useState } from 'react'
import type { HeardTopic } from '~/contract/sources/mqtt'
import type { Problem } from '~/ui/Notes'
import { callStream, failureIn } from '../../app/api'

interface State {
  topics: ReadonlyMap<string, HeardTopic>
  elapsedS: number
  messages: number
  busy: boolean
  /** There are more topics than are kept. */
  more: boolean
}
const silent: State = { topics: new Map(), elapsedS: 0, messages: 0, busy: false, more: false }

/** Listens for a while and keeps what was heard, newest over older. */
export function useListening() {
  const [state, setState] = useState<State>(silent)
  const [problem, setProblem] = useState<Problem | null>(null)
  const abort = useRef<AbortController | null>(null)
  useEffect(() => () => abort.current?.abort(), [])
  const stop = () => {
    abort.current?.abort()
    setState((s) => ({ ...s, busy: false }))
  }
  const start = (id: string, filters: string, seconds: number) => {
    abort.current?.abort()
    const mine = new AbortController()
    abort.current = mine
    setProblem(null)
    setState({ ...silent, busy: true })
    callStream('listenOnTopics', { params: { id }, body: { filters, seconds }, signal: mine.signal }, (heard) =>
      setState((old) => {
        const topics = new Map(old.topics)
        for (const topic of heard.topics) topics.set(topic.topic, topic)
        return { topics, elapsedS: heard.elapsedS, messages: heard.messages, busy: !heard.over, more: heard.more }
      }),
    )
      .catch((e: unknown) => {
        if (!mine.signal.aborted) setProblem(failureIn(e))
      })
      .finally(() => {
        if (abort.current === mine) setState((s) => ({ ...s, busy: false }))
      })
  }
  return { ...state, problem, start, stop }
}

export type Listening = ReturnType<typeof useListening>

import { headerTime, type PeerTime } from '~/core/proof/peer-time'

/** What a web server told of its time with an answer that began to come so long after it was asked (epoch ms, ms); null: nothing. */
export function toldBy(date: string | undefined, asked: number, tookMs: number): PeerTime | null {
  const theirs = headerTime(date)
  return theirs === null ? null : { theirs, asked, answered: asked + tookMs, cutMs: 1000, how: 'date of its answers' }
}

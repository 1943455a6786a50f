import type { BrickState } from '~/core/delivery/wall'

/** Width of a brick with its joint, and its height, in the units of the picture. */
export const W = 10
export const H = 19

function Outline({ y, h, className, dash }: { y: number; h: number; className: string; dash?: string }) {
  const at = { x: 0.75, y: y + 0.75, width: W - 2.5, height: Math.max(1, h - 1.5) }
  return <rect {...at} fill="none" className={className} strokeWidth="1.5" strokeDasharray={dash} vectorEffect="non-scaling-stroke" />
}

/** A brick, or a part of one. Shape as well as colour tells the state. `y`, `h`: where it begins, and how high it is. */
export function BrickShape({ state, strength, y = 1, h = H - 1 }: { state: BrickState; strength: number; y?: number; h?: number }) {
  const w = W - 1
  const bottom = y + h
  /** So far something is cut into it, where it is low less. */
  const cut = (most: number) => Math.min(most, h / 3)
  switch (state) {
    case 'empty':
      return null
    case 'confirmed':
      return <rect y={y} width={w} height={h} className="fill-good" opacity={strength} />
    case 'waiting':
      return <rect y={y} width={w} height={h} className="fill-good" opacity="0.26" />
    case 'late':
      return <path d={`M0 ${y}h${w}v${h}h${-w / 2 + 2}l-2 ${-cut(6)}l-2 ${cut(6)}h${-w / 2 + 2}z`} className="fill-uncertain" />
    case 'missing':
      return <Outline y={y} h={h} className="stroke-bad" />
    case 'dropped':
      return (
        <path
          d={`M0 ${bottom}V${y}h${w}v${h}M0 ${bottom}L${w} ${y}`}
          fill="none"
          className="stroke-bad"
          strokeWidth="1.2"
          vectorEffect="non-scaling-stroke"
        />
      )
    case 'rejected':
      return (
        <path
          d={`M0.75 ${y + 0.75}h${w - 1.5}v${Math.max(1, h - 1.5)}h${1.5 - w}zM0 ${y + h / 2}h${w}`}
          fill="none"
          className="stroke-bad"
          strokeWidth="1.5"
          vectorEffect="non-scaling-stroke"
        />
      )
    case 'altered':
      return <path d={`M0 ${y}h${w}L0 ${bottom - cut(4)}zM${w} ${y + cut(4)}V${bottom}H0z`} className="fill-bad" />
    case 'foreign': {
      const [side, rim] = [2.5, cut(5)]
      const hole = `M${side} ${y + rim}v${h - 2 * rim}h${w - 2 * side}v${2 * rim - h}z`
      return <path d={`M0 ${y}h${w}v${h}h${-w}z${hole}`} fillRule="evenodd" className="fill-clay" />
    }
    case 'disordered':
      return <path d={`M0 ${y}h${w / 2}v${h - cut(4)}h${-w / 2}zM${w / 2} ${y + cut(4)}h${w / 2}V${bottom}h${-w / 2}z`} className="fill-uncertain" />
    case 'unwatched':
      return <rect y={y} width={w} height={h} className="fill-idle" opacity={strength * 0.6} />
    case 'unseen':
    case 'unknown':
      return <Outline y={y} h={h} className="stroke-idle" dash="2.5 2" />
    case 'doubled': {
      const half = (h - cut(3)) / 2
      return <path d={`M0 ${y}h${w}v${half}h${-w}zM0 ${bottom - half}h${w}V${bottom}h${-w}z`} className="fill-slate" />
    }
  }
}

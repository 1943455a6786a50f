export type GlyphState = 'good' | 'uncertain' | 'bad' | 'idle'

const colour: Record<GlyphState, string> = { good: 'text-good', uncertain: 'text-uncertain', bad: 'text-bad', idle: 'text-idle' }

/** A state as a brick: whole, half, cracked, or only its outline. Shape tells it as well as colour. */
export function Glyph({ state, title }: { state: GlyphState; title?: string }) {
  return (
    <svg viewBox="0 0 14 9" width="14" height="9" className={`inline-block shrink-0 ${colour[state]}`} role="img" aria-label={title ?? state}>
      {title && <title>{title}</title>}
      {state === 'good' && <rect x="0" y="0" width="14" height="9" rx="1" fill="currentColor" />}
      {state === 'uncertain' && (
        <>
          <rect x="0.75" y="0.75" width="12.5" height="7.5" rx="1" fill="none" stroke="currentColor" strokeWidth="1.5" />
          <rect x="0" y="0" width="8" height="9" rx="1" fill="currentColor" />
        </>
      )}
      {state === 'bad' && (
        <>
          <path d="M1 0h5.4L5 3.6l2.3 1L5.4 9H1a1 1 0 0 1-1-1V1a1 1 0 0 1 1-1Z" fill="currentColor" />
          <path d="M8.2 0H13a1 1 0 0 1 1 1v7a1 1 0 0 1-1 1H7.3l2-4.9-2.3-1L8.2 0Z" fill="currentColor" />
        </>
      )}
      {state === 'idle' && <rect x="0.75" y="0.75" width="12.5" height="7.5" rx="1" fill="none" stroke="currentColor" strokeWidth="1.5" />}
    </svg>
  )
}

/** Three courses of bricks, the uppermost being laid: Embrik's mark. */
export function Mark({ size = 26 }: { size?: number }) {
  return (
    <svg viewBox="0 0 26 19" width={size} height={(size * 19) / 26} aria-hidden="true">
      <g className="fill-clay">
        <rect x="0" y="0" width="11" height="5" rx="1" />
        <rect x="7" y="7" width="12" height="5" rx="1" />
        <rect x="0" y="14" width="12" height="5" rx="1" />
      </g>
      <g className="fill-ink">
        <rect x="13" y="0" width="13" height="5" rx="1" />
        <rect x="0" y="7" width="5" height="5" rx="1" />
        <rect x="21" y="7" width="5" height="5" rx="1" />
        <rect x="14" y="14" width="12" height="5" rx="1" />
      </g>
    </svg>
  )
}

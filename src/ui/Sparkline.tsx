import { memo } from 'react'

/** The course of a value over the last minutes; gaps where it was unusable. */
export const Sparkline = memo(function Sparkline({
  points,
  width = 118,
  height = 16,
  className = 'text-slate',
  points120 = 120,
}: {
  points: readonly (number | null)[]
  width?: number
  height?: number
  className?: string
  points120?: number
}) {
  const numbers = points.filter((p): p is number => p !== null)
  if (numbers.length < 2) return <svg width={width} height={height} aria-hidden="true" />
  let low = Math.min(...numbers)
  let high = Math.max(...numbers)
  if (high - low < Math.max(Math.abs(high), 1) * 1e-4) {
    low -= 1
    high += 1
  }
  const step = (width - 2) / (points120 - 1)
  const start = width - 1 - (points.length - 1) * step
  let path = ''
  let pen = false
  points.forEach((p, i) => {
    if (p === null) {
      pen = false
      return
    }
    const x = start + i * step
    const y = height - 2 - ((p - low) / (high - low)) * (height - 4)
    path += `${pen ? 'L' : 'M'}${x.toFixed(1)} ${y.toFixed(1)}`
    pen = true
  })
  return (
    <svg width={width} height={height} className={className} aria-hidden="true">
      <path d={path} fill="none" stroke="currentColor" strokeWidth="1.2" strokeLinejoin="round" />
    </svg>
  )
})

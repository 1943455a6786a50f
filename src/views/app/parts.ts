/** Parts of a page in the order in which one works: the middle, its peek, what there is at the left, what can be done, the course. */
const PARTS = ['main', 'aside[aria-label="Peek"]', 'aside[aria-label="What there is"]', '[data-row]', 'header']
const FOCUSABLE = 'a[href], button:not(:disabled), input:not(:disabled), select:not(:disabled), textarea:not(:disabled), [tabindex="0"]'

/** Puts the focus into the next part of the page (or, with -1, the one before): its first thing that takes keys, or itself. */
export function focusPart(step: 1 | -1): void {
  const parts = PARTS.flatMap((selector) => document.querySelector<HTMLElement>(selector) ?? [])
  const here = parts.findIndex((part) => part.contains(document.activeElement))
  const next = parts[here < 0 ? 0 : (here + step + parts.length) % parts.length]
  if (!next) return
  const first = next.querySelector<HTMLElement>(FOCUSABLE)
  if (first) return first.focus()
  next.tabIndex = -1
  next.focus()
}

import type { ReactNode } from 'react'

/** What is typed and sent off together: Enter in a field does what its button does, and the page stays where it is. */
export function Form({ label, onSubmit, className, children }: { label?: string; onSubmit(): unknown; className?: string; children: ReactNode }) {
  return (
    <form
      aria-label={label}
      className={className}
      onSubmit={(e) => {
        e.preventDefault()
        void onSubmit()
      }}
    >
      {children}
      {/* The button may stand in the foot of a sheet, out of the form. */}
      <button type="submit" className="hidden" aria-hidden="true" tabIndex={-1} />
    </form>
  )
}

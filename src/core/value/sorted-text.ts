/** The same text for the same thing, in whatever order its names stand: a database keeps them in one of its own. */
export const sortedText = (thing: unknown): string =>
  JSON.stringify(thing, (_name, value: unknown) =>
    typeof value === 'object' && value !== null && !Array.isArray(value)
      ? Object.fromEntries(Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1)))
      : value,
  )

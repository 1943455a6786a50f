/** The first of many, and how many more. */
export function some(names: readonly string[], most = 3): string {
  return names.length <= most ? names.join(', ') : `${names.slice(0, most).join(', ')} and ${names.length - most} more`
}

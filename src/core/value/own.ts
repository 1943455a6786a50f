/**
 * What stands under a name from outside; undefined when nothing does. Names such as `constructor`, which every object answers
 * to, are ordinary text here: only what was put in counts.
 */
export function own<T>(record: Readonly<Record<string, T>> | undefined, name: string): T | undefined {
  return record !== undefined && Object.hasOwn(record, name) ? record[name] : undefined
}

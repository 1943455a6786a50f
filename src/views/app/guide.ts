/** Where the guide tells of a page, by its path; the first that it begins with counts. */
const pages: readonly [path: string, place: string][] = [
  ['/sources/registers', 'sources.md#modbus-tcp'],
  ['/sources/topics', 'sources.md#mqtt-topics'],
  ['/sources', 'sources.md'],
  ['/tags', 'tags.md'],
  ['/equipment', 'equipment.md'],
  ['/publications', 'guide.md#publish'],
  ['/destinations/credentials', 'credentials.md'],
  ['/destinations', 'guide.md#connect-a-destination'],
  ['/proof', 'guide.md#prove-it'],
  ['/settings', 'guide.md#people-and-scripts'],
]

/** The page of the guide for a path of the interface. */
export function guideFor(path: string): string {
  const found = pages.find(([begin]) => path === begin || path.startsWith(`${begin}/`))
  return `/guide/${found?.[1] ?? 'guide.md'}`
}

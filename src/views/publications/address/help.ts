/** What each placeholder of an address stands for. */
export const placeholderHelp: Readonly<Record<string, string>> = {
  enterprise: 'name at that level',
  site: 'name at that level',
  area: 'name at that level',
  centre: 'name of the work centre',
  unit: 'name of the work unit',
  path: 'all names from the top, a level each',
  name: 'name of the equipment, or its alias',
  class: 'its class',
  member: 'of messages about one member',
  tag: 'name of the tag that fills the member, a level a folder',
}

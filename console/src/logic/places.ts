/** Where things are in the console: by the task that somebody comes with. */

export interface Place {
  name: string
  text: string
  /** Whether whoever sees only their own machines has it, too. */
  forMembers?: boolean
  /** Pages that belong to it. */
  within?: string[]
}

export const PLACES: Place[] = [
  { name: 'office', text: 'Office', forMembers: true },
  { name: 'workstations', text: 'Workstations', forMembers: true, within: ['workstation', 'browse'] },
  { name: 'restores', text: 'Restores' },
  { name: 'storage', text: 'Storage' },
  { name: 'people', text: 'People & access', within: ['access', 'codes'] },
  { name: 'alerts', text: 'Alerts' },
  { name: 'reports', text: 'Reports' },
  { name: 'setup', text: 'Setup' },
]

/** The places of somebody with a role. */
export const placesOf = (role: string | undefined) => PLACES.filter((place) => role !== 'member' || place.forMembers)

/** Whether a page is a place or within it. */
export const isAt = (place: Place, page: unknown) => place.name === page || !!place.within?.includes(String(page))

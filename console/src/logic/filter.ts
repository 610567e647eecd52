/** Which workstations a person looks for. */
import type { Workstation } from '../api/types'
import { words } from './format'

/** What of a workstation a filter looks at, in small letters. */
function said(w: Workstation): string {
  return [w.name, w.person, w.login, w.store.destination_name, w.platform, w.client_version, words(w.state)].join(' ').toLowerCase()
}

/** The workstations that have every word of a text somewhere in what the list shows of them; all for none. */
export function filtered(workstations: Workstation[], text: string): Workstation[] {
  const wanted = text.toLowerCase().split(/\s+/).filter(Boolean)
  return workstations.filter((w) => wanted.every((word) => said(w).includes(word)))
}

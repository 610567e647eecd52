/** How the office stands, in words. */
import type { DayOfBackups, Office } from '../api/types'
import { many, words } from './format'

/** The worst first: what a glance is for. */
export function standing(office: Pick<Office, 'states'>, alerts: number): string {
  const total = office.states.reduce((sum, { workstations }) => sum + workstations, 0)
  const notable = office.states.filter(({ state, workstations }) => workstations > 0 && (state === 'overdue' || state === 'first_point_awaited'))
  const notes = notable.map(({ state, workstations }) => `${workstations} ${words(state)}`)
  if (!total) return 'No workstation yet.'
  if (!alerts && !notes.length) return `All is well: ${many(total, 'workstation')}, none overdue.`
  return [alerts ? `${many(alerts, 'alert')}.` : '', `${many(total, 'workstation')}${notes.length ? `: ${notes.join(', ')}` : ', none overdue'}.`].filter(Boolean).join(' ')
}

/** The kinds of what became of backups, the best first. */
export const OUTCOMES = [
  { key: 'complete', text: 'complete' },
  { key: 'with_exceptions', text: 'with exceptions' },
  { key: 'stopped', text: 'stopped' },
  { key: 'failed', text: 'failed' },
  { key: 'waited', text: 'waited' },
] as const

export const runsOf = (day: DayOfBackups) => OUTCOMES.reduce((sum, { key }) => sum + day[key], 0)

/** A bar for each day: its parts as shares of the largest day. */
export function bars(days: DayOfBackups[]) {
  const most = Math.max(1, ...days.map(runsOf))
  return days.map((day) => ({ day: day.day, parts: OUTCOMES.flatMap(({ key }) => (day[key] ? [{ key, share: day[key] / most }] : [])) }))
}

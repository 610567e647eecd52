/** Where somebody goes who wants to see to an alert. */
import type { RouteLocationRaw } from 'vue-router'
import type { Alert } from '../api/types'

/** The part of a workstation's page that an alert is about. */
const TABS: Partial<Record<Alert['kind'], string>> = {
  damage: 'points',
  drill_failed: 'history',
  drill_overdue: 'history',
  failing: 'history',
  room_made: 'retention',
  terms_shortened: 'retention',
  proof_due: 'keys',
}

/** The link of an alert: what it says, and where it leads. */
export function placeOf(alert: Pick<Alert, 'kind' | 'subject' | 'workstation'>): { text: string; to: RouteLocationRaw } {
  if (alert.workstation != null) {
    return { text: `Open ${alert.subject}`, to: { name: 'workstation', params: { id: alert.workstation, tab: TABS[alert.kind] ?? '' } } }
  }
  if (alert.kind === 'audit_altered') return { text: 'Open the audit log', to: { name: 'reports' } }
  return { text: 'Open storage', to: { name: 'storage' } }
}

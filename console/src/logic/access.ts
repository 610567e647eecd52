/** Who has access to a destination, and why an account may put backups there, in words. */
import type { AccessCell, AccessReason, Grants } from '../api/types'

export function grantsText(to: Grants): string {
  if (to.everybody) return 'everybody'
  const all = [...(to.groups ?? []).map((group) => `group ${group}`), ...(to.logins ?? [])]
  return all.length ? all.join(', ') : 'nobody'
}

function reason(of: AccessReason): string {
  switch (of.by) {
    case 'everybody':
      return 'everybody'
    case 'account':
      return 'by account'
    case 'group':
      return `by group ${of.name}`
  }
}

export function cellText(cell: AccessCell): string {
  return cell.reasons.length ? cell.reasons.map(reason).join(', ') : 'no'
}

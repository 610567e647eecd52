/** Kinds and roles of accounts, as they are chosen. */
import type { AccountKind, Role } from '../api/types'

export const ROLES: { value: Role; text: string }[] = [
  { value: 'member', text: 'member: own workstations only' },
  { value: 'helpdesk', text: 'helpdesk: sees all, changes nothing' },
  { value: 'administrator', text: 'administrator: everything' },
]

export const KINDS: { value: AccountKind; text: string }[] = [
  { value: 'person', text: 'a person' },
  { value: 'machine', text: 'a machine nobody sits at' },
  { value: 'shared', text: 'shared by several people' },
]

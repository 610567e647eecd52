import type { AuditCheck, AuditHeads } from '../api/types'
import { count, many } from './format'

/** What a check of the whole log found. */
export function saidOfCheck(found: AuditCheck): string {
  if (found.broken_at != null) return `The chain breaks at entry ${count(found.broken_at)}: it was altered, or one before it was removed.`
  if (found.heads.some((heads) => heads.contradicted_at != null)) {
    return 'Each entry follows from the one before, and yet they are not those that were made:'
  }
  return `${count(found.entries)} entries are as they were made.`
}

/** What the signed heads of the audit log on a destination say. */
export function saidOfHeads(heads: AuditHeads): string {
  const { destination, agree, contradicted_at: at, by_other_keys: others, unreadable, trouble } = heads
  if (trouble) return `${destination}: its heads cannot be read: ${trouble}.`
  const said =
    at == null
      ? `${destination}: the log agrees with ${many(agree, 'signed head')}.`
      : `${destination} contradicts the log at entry ${count(at)}: it was altered or removed, with those before it made to fit.`
  const other = others ? ` ${many(others, 'head')} signed by another key, from before this service started again from a copy of its records.` : ''
  const broken = unreadable ? ` ${many(unreadable, 'line')} cannot be read, or the signature is wrong.` : ''
  return said + other + broken
}

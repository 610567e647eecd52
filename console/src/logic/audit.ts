import type { AuditHeads } from '../api/types'
import { count, many } from './format'

/** What the signed heads of the audit log on a destination say. */
export function saidOfHeads(heads: AuditHeads): string {
  const { destination, agree, contradicted_at: at, by_other_keys: others, unreadable, trouble } = heads
  if (trouble) return `${destination}: its heads cannot be read: ${trouble}.`
  const said =
    at == null
      ? `${destination}: ${many(agree, 'signed head')} agree.`
      : `${destination} contradicts the log at entry ${count(at)}: it was altered or removed, with those before it made to fit.`
  const other = others ? ` ${many(others, 'head')} signed by another key, from before this service started again from a copy of its records.` : ''
  const broken = unreadable ? ` ${many(unreadable, 'line')} cannot be read, or the signature is wrong.` : ''
  return said + other + broken
}

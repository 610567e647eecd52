/** What a restore on record was, in words. */

import type { Restore, Workstation } from '../api/types'
import { age, many } from './format'

const WORDS: Record<Restore['purpose'], (point: number) => string> = {
  restore: (point) => `Restore from point ${point}`,
  drill: (point) => `Drill of point ${point}`,
  attach: (point) => `Disk of point ${point} attached`,
  mount: (point) => `Point ${point} mounted`,
  export: (point) => `Export of point ${point}`,
  browse: (point) => `Point ${point} browsed`,
}

export function restoreWords(restore: Pick<Restore, 'purpose' | 'point'>): string {
  return WORDS[restore.purpose](restore.point)
}

/** How much, and where to. */
export function scopeText(restore: Pick<Restore, 'scope' | 'target'>): string {
  return restore.target ? `${restore.scope}, ${TARGETS[restore.target]}` : restore.scope
}

const TARGETS: Record<NonNullable<Restore['target']>, string> = {
  original: 'to where it was',
  beside: 'beside what is there',
  elsewhere: 'to another place',
  device: 'onto a disk',
}

/** Who asked, and from where. */
export function whoText(restore: Pick<Restore, 'by' | 'origin'>): string {
  return restore.origin ? `by ${restore.by} from ${restore.origin}` : `by ${restore.by}`
}

/** What there is to say of one beside its figures. */
export function noteText(restore: Restore): string {
  const ended = restore.cancelled_by ? `cancelled by ${restore.cancelled_by}` : restore.reason
  const lost = restore.exceptions ? `${restore.exceptions} not as they were` : ''
  return [ended, whoText(restore), lost, checkedText(restore)].filter(Boolean).join('; ')
}

/** What was found when a whole machine was checked off. */
function checkedText({ checklist }: Restore): string {
  if (!checklist) return ''
  const wrong = checklist.items.filter((item) => item.state === 'wrong').length
  return wrong ? `checked off, ${many(wrong, 'item')} wrong` : 'checked off, nothing wrong'
}

/** When a drill last restored something exactly, or that the latest one did not. */
export function provenText(store: Pick<Workstation['store'], 'drilled' | 'drill_failed'>, now: Date): string {
  if (store.drill_failed) return `failed ${age(store.drill_failed, now)}`
  return store.drilled ? age(store.drilled, now) : 'never'
}

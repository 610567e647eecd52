/** What a restore on record was, in words. */

import type { Restore, Workstation } from '../api/types'
import { age } from './format'

const WORDS: Record<Restore['purpose'], (point: number) => string> = {
  restore: (point) => `Restore from point ${point}`,
  drill: (point) => `Drill of point ${point}`,
  attach: (point) => `Disk of point ${point} attached`,
  mount: (point) => `Point ${point} mounted`,
  export: (point) => `Export of point ${point}`,
}

export function restoreWords(restore: Pick<Restore, 'purpose' | 'point'>): string {
  return WORDS[restore.purpose](restore.point)
}

/** When a drill last restored something exactly, or that the latest one did not. */
export function provenText(store: Pick<Workstation['store'], 'drilled' | 'drill_failed'>, now: Date): string {
  if (store.drill_failed) return `failed ${age(store.drill_failed, now)}`
  return store.drilled ? age(store.drilled, now) : 'never'
}

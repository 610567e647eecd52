/** What a restore on record was, in words. */

import type { Restore } from '../api/types'

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

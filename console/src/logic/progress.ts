/** How far something is, how fast, and how long it will take. */
import type { Progress } from '../api/types'

export interface Pace {
  /** 0 to 100; `undefined` while the end is not known. */
  percent?: number
  bytesPerSecond: number
  secondsLeft?: number
}

export function pace(progress: Progress, started: string, now: Date): Pace {
  const seconds = Math.max((now.getTime() - new Date(started).getTime()) / 1000, 0.001)
  const bytesPerSecond = progress.bytes_done / seconds
  const total = progress.bytes_total
  if (total === undefined || total === null) return { bytesPerSecond }
  if (total === 0) return { bytesPerSecond, percent: 100, secondsLeft: 0 }
  const left = Math.max(total - progress.bytes_done, 0)
  return {
    bytesPerSecond,
    percent: Math.min((100 * progress.bytes_done) / total, 100),
    secondsLeft: bytesPerSecond > 0 ? left / bytesPerSecond : undefined,
  }
}

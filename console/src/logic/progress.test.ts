import { expect, it } from 'vitest'
import type { Progress } from '../api/types'
import { pace } from './progress'

const started = '2026-11-23T12:00:00Z'
const after = (seconds: number) => new Date(new Date(started).getTime() + seconds * 1000)
const at = (done: number, total?: number): Progress => ({ phase: 'sending', files_done: 1, bytes_done: done, bytes_total: total, sent: 0 })

it('knows percent, rate and time left once the end is known', () => {
  expect(pace(at(50, 200), started, after(10))).toEqual({ percent: 25, bytesPerSecond: 5, secondsLeft: 30 })
})

it('promises nothing while the end is not known', () => {
  expect(pace(at(50), started, after(10))).toEqual({ bytesPerSecond: 5 })
})

it('does not go beyond the end when more comes than was counted', () => {
  expect(pace(at(300, 200), started, after(10))).toMatchObject({ percent: 100, secondsLeft: 0 })
})

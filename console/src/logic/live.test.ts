import { expect, it } from 'vitest'
import type { Run, Workstation } from '../api/types'
import { withEntry, withRun } from './live'

const run = (id: string, started: string, workstation = 'w'): Run =>
  ({ id, started, workstation, outcome: 'underway' }) as Run

it('shows a newer run and keeps it when an older one is told late', () => {
  const first = withRun({ id: 'w' } as Workstation, run('1', '2026-11-23T10:00:00Z'))
  const second = withRun(first, run('2', '2026-11-23T11:00:00Z'))
  expect(second.latest_run?.id).toBe('2')
  expect(withRun(second, run('1', '2026-11-23T10:00:00Z')).latest_run?.id).toBe('2')
  expect(withRun(second, run('3', '2026-11-23T12:00:00Z', 'other')).latest_run?.id).toBe('2')
})

it('replaces an entry or puts a new one in front', () => {
  const history = [run('2', 'b'), run('1', 'a')]
  expect(withEntry(history, { ...run('1', 'a'), outcome: 'complete' }).map((r) => [r.id, r.outcome])).toEqual([['2', 'underway'], ['1', 'complete']])
  expect(withEntry(history, run('3', 'c')).map((r) => r.id)).toEqual(['3', '2', '1'])
})

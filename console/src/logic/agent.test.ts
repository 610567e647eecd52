import { expect, test } from 'vitest'
import { late, nextRun, nextRunSentence, waits } from './agent'

const now = new Date('2026-11-30T09:00:00Z')
const seen = '2026-11-30T08:59:00Z'

test('a workstation says in how long its next backup is due, or for how long it has been late and why', () => {
  const since = '2026-11-30T08:10:00Z'
  const delayed = { seen, due: null, delay: { reason: 'on_battery' as const, since } }
  expect(nextRun({ agent: delayed }, now)).toBe('late: on battery for 50 min')
  expect(late(delayed)).toBe(true)
  expect(nextRunSentence({ agent: delayed }, now)).toBe('Late: on battery for 50 min.')
  expect(waits(delayed, now)).toBe('It starts within seconds.')
  const due = '2026-11-30T09:30:00Z'
  expect(nextRun({ agent: { seen, due, delay: null } }, now)).toBe('in 30 min')
  expect(nextRun({ agent: { seen, due: since, delay: null } }, now)).toBe('due or in progress')
  expect(nextRun({ agent: { seen: '2026-11-21T08:59:00Z', due, delay: null } }, now)).toBe('not seen for 9 days')
  expect(nextRun({ agent: undefined }, now)).toBe('no agent')
  expect(late(undefined)).toBe(false)
  const queued = { seen, due: null, delay: { reason: 'queued' as const, since } }
  expect(nextRun({ agent: queued, queued_at: 3 }, now)).toBe('at place 3 of the queue')
})

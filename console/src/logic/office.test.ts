import { expect, test } from 'vitest'
import type { DayOfBackups, Office } from '../api/types'
import { bars, standing } from './office'

const office = (states: Record<string, number>) => ({ states: Object.entries(states).map(([state, workstations]) => ({ state, workstations })) }) as Pick<Office, 'states'>
const day = (of: Partial<DayOfBackups>): DayOfBackups => ({ day: '2026-03-03', complete: 0, with_exceptions: 0, failed: 0, stopped: 0, waited: 0, ...of })

test('all is well only when nothing needs attention and nothing is overdue', () => {
  expect(standing(office({ current: 18, overdue: 0 }), 0)).toBe('All is well: 18 workstations, none overdue.')
  expect(standing(office({ current: 18 }), 1)).toBe('1 alert. 18 workstations, none overdue.')
  expect(standing(office({ current: 1, overdue: 2, first_point_awaited: 1 }), 0)).toBe('4 workstations: 2 overdue, 1 first point awaited.')
  expect(standing(office({}), 3)).toBe('No workstation yet.')
})

test('a bar is as high as its day has runs, against the day that has most', () => {
  const [first, second, none] = bars([day({ complete: 3, failed: 1 }), day({ complete: 2 }), day({})])
  expect(first?.parts).toEqual([{ key: 'complete', share: 0.75 }, { key: 'failed', share: 0.25 }])
  expect(second?.parts).toEqual([{ key: 'complete', share: 0.5 }])
  expect(none?.parts).toEqual([])
})

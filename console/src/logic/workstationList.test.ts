import { expect, test } from 'vitest'
import type { Workstation } from '../api/types'
import { COLUMNS, USUAL } from './workstationList'

const NOW = new Date('2026-03-03T12:00:00Z')
function column(key: string) {
  const found = COLUMNS.find((column) => column.key === key)
  if (!found) throw new Error(key)
  return found
}
const some = (of: object) => of as unknown as Workstation

test('the age of a point is half a bar when it is as old as the rhythm', () => {
  const w = some({ latest_point: { committed: '2026-03-02T12:00:00Z' }, schedule: { values: { rhythm_seconds: 86_400 } } })
  expect(column('latest_point').text(w, NOW)).toBe('24 h ago')
  expect(column('latest_point').share?.(w, NOW)).toBe(0.5)
  expect(column('latest_point').text(some({}), NOW)).toBe('none')
})

test('what is used stands against its limit where there is one', () => {
  expect(column('used').text(some({ store: { used: 5e9, limit: 1e10 } }), NOW)).toBe('5.00 GB of 10.0 GB')
  expect(column('used').share?.(some({ store: { used: 5e9, limit: 1e10 } }), NOW)).toBe(0.5)
  expect(column('used').text(some({ store: { used: 5e9, limit: null } }), NOW)).toBe('5.00 GB')
  expect(column('used').share?.(some({ store: { used: 5e9, limit: null } }), NOW)).toBeUndefined()
})

test('a suspect store says so before its state', () => {
  expect(column('state').text(some({ state: 'current', store: { suspect: {} } }), NOW)).toBe('suspect')
  expect(column('state').text(some({ state: 'first_point_awaited', store: {} }), NOW)).toBe('first point awaited')
})

test('the usual columns are columns', () => {
  expect(USUAL.every((key) => COLUMNS.some((column) => column.key === key))).toBe(true)
})

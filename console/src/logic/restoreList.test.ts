import { expect, test } from 'vitest'
import { sinceOf } from './restoreList'

const NOW = new Date('2026-03-31T12:00:00Z')

test('a period goes back from now, and one that nobody knows is the usual one', () => {
  expect(sinceOf('7', NOW)).toBe('2026-03-24T12:00:00.000Z')
  expect(sinceOf('', NOW)).toBe('2026-03-01T12:00:00.000Z')
  expect(sinceOf('nonsense', NOW)).toBe('2026-03-01T12:00:00.000Z')
  expect(sinceOf('all', NOW)).toBeUndefined()
})

import { expect, test } from 'vitest'
import { retentionText } from './retention'

test('retention reads as in the command', () => {
  expect(retentionText({ kind: 'everything' })).toBe('everything')
  expect(retentionText({ kind: 'thinned', hours: 72, weeks: 1, at_least: 3 })).toBe('72 hours, 1 week, at least 3')
})

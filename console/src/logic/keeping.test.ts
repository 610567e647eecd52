import { expect, test } from 'vitest'
import { keepingText } from './keeping'

test('what is kept reads as in the command', () => {
  expect(keepingText({ kind: 'everything' })).toBe('everything')
  expect(keepingText({ kind: 'thinned', hours: 72, weeks: 1, at_least: 3 })).toBe('72 hours, 1 week, at least 3')
})

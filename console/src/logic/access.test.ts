import { expect, test } from 'vitest'
import { cellText, grantsText } from './access'

test('access to a destination reads as people say it', () => {
  expect(grantsText({ everybody: true, groups: ['survey'], logins: [] })).toBe('everybody')
  expect(grantsText({ everybody: false, groups: ['survey'], logins: ['tove'] })).toBe('group survey, tove')
  expect(grantsText({ everybody: false, groups: [], logins: [] })).toBe('nobody')
})

test('every reason is named, and none is a no', () => {
  const cell = { destination: 'Shelf', stores: 0 }
  expect(cellText({ ...cell, reasons: [] })).toBe('no')
  expect(cellText({ ...cell, reasons: [{ by: 'account' }, { by: 'group', name: 'survey' }] })).toBe('by account, by group survey')
})

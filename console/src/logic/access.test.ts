import { expect, test } from 'vitest'
import { cellText, openToText } from './access'

test('to whom a destination is open is said as people say it', () => {
  expect(openToText({ everybody: true, groups: ['survey'], logins: [] })).toBe('everybody')
  expect(openToText({ everybody: false, groups: ['survey'], logins: ['tove'] })).toBe('group survey, tove')
  expect(openToText({ everybody: false, groups: [], logins: [] })).toBe('nobody')
})

test('every reason is named, and none is a no', () => {
  const cell = { destination: 'Shelf', stores: 0 }
  expect(cellText({ ...cell, reasons: [] })).toBe('no')
  expect(cellText({ ...cell, reasons: [{ by: 'account' }, { by: 'group', name: 'survey' }] })).toBe('by account, by group survey')
})

import { expect, test } from 'vitest'
import { addresses } from './mail'

test('addresses are taken apart however they were typed', () => {
  expect(addresses(' ingrid@office.example, pelle@office.example;\nhelp@office.example, ')).toEqual(['ingrid@office.example', 'pelle@office.example', 'help@office.example'])
  expect(addresses('Backups <backups@office.example>')).toEqual(['Backups <backups@office.example>'])
  expect(addresses(' , ')).toEqual([])
})

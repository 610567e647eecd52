import { expect, test } from 'vitest'
import type { Workstation } from '../api/types'
import { filtered } from './filter'

const named = (name: string, person: string, state: Workstation['state']) =>
  ({ name, person, login: name, platform: 'Debian', client_version: '0.3.0', state, store: { destination_name: 'Shelf' } }) as Workstation

test('every word has to be somewhere, in any case and order', () => {
  const all = [named('curlew', 'Marek Holm', 'current'), named('whimbrel', 'Yngve Sand', 'overdue')]
  const names = (text: string) => filtered(all, text).map((w) => w.name)
  expect(names('')).toEqual(['curlew', 'whimbrel'])
  expect(names('shelf MAREK')).toEqual(['curlew'])
  expect(names('overdue')).toEqual(['whimbrel'])
  expect(names('marek overdue')).toEqual([])
})

import { expect, test } from 'vitest'
import { placeOf } from './alerts'

test('an alert leads to what it is about', () => {
  expect(placeOf({ kind: 'proof_due', subject: 'knot', workstation: '7' })).toEqual({ text: 'Open knot', to: { name: 'workstation', params: { id: '7', tab: 'keys' } } })
  expect(placeOf({ kind: 'overdue', subject: 'knot', workstation: '7' }).to).toEqual({ name: 'workstation', params: { id: '7', tab: '' } })
  expect(placeOf({ kind: 'destination_full', subject: 'Shelf' }).to).toEqual({ name: 'storage' })
  expect(placeOf({ kind: 'audit_altered', subject: '' }).to).toEqual({ name: 'reports' })
})

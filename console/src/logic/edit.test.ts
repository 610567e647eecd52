import { expect, test } from 'vitest'
import { differences } from './edit'

test('only what two people set differently is shown', () => {
  const theirs: [string, string][] = [['Name', 'shelf'], ['Limit', '1 TB'], ['What it is for', '']]
  expect(differences(theirs, [['Name', 'shelf'], ['Limit', '2 TB'], ['What it is for', 'laptops']])).toEqual([
    { label: 'Limit', theirs: '1 TB', mine: '2 TB' },
    { label: 'What it is for', theirs: '', mine: 'laptops' },
  ])
  expect(differences(theirs, theirs)).toEqual([])
})

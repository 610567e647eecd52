import { expect, it } from 'vitest'
import { saidOfCheck, saidOfHeads } from './audit'

const heads = { destination: 'Vault', agree: 7, contradicted_at: null, by_other_keys: 0, unreadable: 0, trouble: null }

it('says that heads agree, and of a contradiction where it begins', () => {
  expect(saidOfHeads(heads)).toBe('Vault: the log agrees with 7 signed heads.')
  expect(saidOfHeads({ ...heads, contradicted_at: 1200 })).toContain('contradicts the log at entry 1,200')
})

it('does not call a log whole that a head contradicts', () => {
  const found = { entries: 9, unchained: 0, broken_at: null, last_link: 'ab', key: 'cd', heads: [heads] }
  expect(saidOfCheck(found)).toBe('9 entries are as they were made.')
  expect(saidOfCheck({ ...found, heads: [heads, { ...heads, contradicted_at: 4 }] })).toContain('not those that were made')
  expect(saidOfCheck({ ...found, broken_at: 4 })).toContain('breaks at entry 4')
})

it('hides neither other keys nor lines that cannot be read', () => {
  const said = saidOfHeads({ ...heads, by_other_keys: 2, unreadable: 1 })
  expect(said).toContain('2 heads signed by another key')
  expect(said).toContain('1 line cannot be read')
  expect(saidOfHeads({ ...heads, trouble: 'it is missing' })).toBe('Vault: its heads cannot be read: it is missing.')
})

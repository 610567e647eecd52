import { expect, it } from 'vitest'
import { saidOfHeads } from './audit'

const heads = { destination: 'Vault', agree: 7, contradicted_at: null, by_other_keys: 0, unreadable: 0, trouble: null }

it('says that heads agree, and of a contradiction where it begins', () => {
  expect(saidOfHeads(heads)).toBe('Vault: 7 signed heads agree.')
  expect(saidOfHeads({ ...heads, contradicted_at: 1200 })).toContain('contradicts the log at entry 1,200')
})

it('hides neither other keys nor lines that cannot be read', () => {
  const said = saidOfHeads({ ...heads, by_other_keys: 2, unreadable: 1 })
  expect(said).toContain('2 heads signed by another key')
  expect(said).toContain('1 line cannot be read')
  expect(saidOfHeads({ ...heads, trouble: 'it is missing' })).toBe('Vault: its heads cannot be read: it is missing.')
})

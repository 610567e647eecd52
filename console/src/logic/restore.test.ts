import { describe, expect, it } from 'vitest'
import { restoreWords } from './restore'

describe('a restore on record', () => {
  it('is told by what it was for', () => {
    expect(restoreWords({ purpose: 'restore', point: 7 })).toBe('Restore from point 7')
    expect(restoreWords({ purpose: 'mount', point: 7 })).toBe('Point 7 mounted')
  })
})

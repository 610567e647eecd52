import { describe, expect, it } from 'vitest'
import { provenText, restoreWords } from './restore'

describe('a restore on record', () => {
  it('is told by what it was for', () => {
    expect(restoreWords({ purpose: 'restore', point: 7 })).toBe('Restore from point 7')
    expect(restoreWords({ purpose: 'mount', point: 7 })).toBe('Point 7 mounted')
  })
})

describe('what is proven restorable', () => {
  it('is a date, and says so where the latest drill failed or none was made', () => {
    const now = new Date('2026-11-20T12:00:00Z')
    expect(provenText({}, now)).toBe('never')
    expect(provenText({ drilled: '2026-11-18T12:00:00Z' }, now)).toMatch(/2 days/)
    expect(provenText({ drilled: '2026-11-18T12:00:00Z', drill_failed: '2026-11-19T12:00:00Z' }, now)).toMatch(/^failed /)
  })
})

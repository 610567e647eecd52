import { describe, expect, it } from 'vitest'
import type { Restore } from '../api/types'
import { noteText, provenText, restoreWords, scopeText } from './restore'

describe('a restore on record', () => {
  it('is told by what it was for', () => {
    expect(restoreWords({ purpose: 'restore', point: 7 })).toBe('Restore from point 7')
    expect(restoreWords({ purpose: 'mount', point: 7 })).toBe('Point 7 mounted')
  })
})

describe('what there is to say of a restore', () => {
  const restore: Restore = {
    id: 'r',
    workstation: 'w',
    point: 7,
    scope: 'selection',
    purpose: 'restore',
    by: 'pelle',
    outcome: 'stopped',
    exceptions: 2,
    started: '2026-11-20T12:00:00Z',
    progress: { phase: 'sending', files_done: 1, bytes_done: 1, sent: 1 },
  }

  it('is who, from where, who cancelled it, and what did not come back', () => {
    expect(noteText(restore)).toBe('by pelle; 2 not as they were')
    expect(noteText({ ...restore, origin: '192.0.2.9', cancelled_by: 'ingrid', reason: 'it was cancelled' })).toBe('cancelled by ingrid; by pelle from 192.0.2.9; 2 not as they were')
  })

  it('says what was found when it was checked off', () => {
    const item = (state: 'right' | 'known' | 'wrong') => ({ what: 'Entries', state, found: 'all of them' })
    expect(noteText({ ...restore, checklist: { items: [item('right'), item('known')] } })).toMatch(/checked off, nothing wrong$/)
    expect(noteText({ ...restore, checklist: { items: [item('wrong'), item('wrong')] } })).toMatch(/checked off, 2 items wrong$/)
  })

  it('says where to, as far as that is known', () => {
    expect([scopeText(restore), scopeText({ ...restore, target: 'beside' })]).toEqual(['selection', 'selection, beside what is there'])
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

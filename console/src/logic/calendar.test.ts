import { describe, expect, it } from 'vitest'
import { monthAfter, weeksOf } from './calendar'

describe('a calendar', () => {
  it('begins its weeks on Monday and holds each day of the month once', () => {
    const weeks = weeksOf('2026-11')
    expect(weeks[0]).toEqual([undefined, undefined, undefined, undefined, undefined, undefined, '2026-11-01'])
    expect(weeks.flat().filter(Boolean)).toHaveLength(30)
    expect(weeks.every((week) => week.length === 7)).toBe(true)
    expect(weeksOf('2027-02')).toHaveLength(4)
  })

  it('goes from one year into the next, and back', () => {
    expect([monthAfter('2026-12', 1), monthAfter('2026-01', -1), monthAfter('2026-05', -17)]).toEqual(['2027-01', '2025-12', '2024-12'])
  })
})

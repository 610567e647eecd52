import { describe, expect, it } from 'vitest'
import { age, duration, exactSize, many, noun, parseSize, size, words } from './format'

describe('format', () => {
  it('shows sizes decimal, with three digits', () => {
    expect([0, 999, 1000, 999_600, 1.5e9, 123_456_789].map(size)).toEqual(['0 B', '999 B', '1.00 kB', '1.00 MB', '1.50 GB', '123 MB'])
  })

  it('reads sizes of both kinds and assumes no unit', () => {
    expect(['500GB', '1.5 tb', '2GiB', '7 B'].map(parseSize)).toEqual([5e11, 1.5e12, 2 ** 31, 7])
    expect(['500', 'GB', '-1GB', '1XB', '0.5B', ''].map(parseSize)).toEqual([undefined, undefined, undefined, undefined, undefined, undefined])
  })

  it('tells ages and durations', () => {
    const now = new Date('2026-11-23T12:00:00Z')
    expect(age('2026-11-23T11:59:30Z', now)).toBe('just now')
    expect(age('2026-11-23T10:30:00Z', now)).toBe('90 min ago')
    expect(age('2026-11-20T11:00:00Z', now)).toBe('3 days ago')
    expect([2, 75, 600, 9000].map(duration)).toEqual(['2.0 s', '75 s', '10 min', '2 h 30 min'])
  })

  it('counts one as one', () => {
    expect([many(1, noun('files')), many(2000, noun('files')), many(2, noun('disk'))]).toEqual(['1 file', '2,000 files', '2 disks'])
  })

  it('writes states with blanks', () => {
    expect(words('complete_with_exceptions')).toBe('complete with exceptions')
  })
})

it('a size in a form is exact and reads back', () => {
  expect(exactSize(2_000_000_000_000)).toBe('2 TB')
  for (const bytes of [0, 1, 999, 1000, 1_234_567, 271_123_456_000]) expect(parseSize(exactSize(bytes))).toBe(bytes)
})

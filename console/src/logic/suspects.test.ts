import { expect, test } from 'vitest'
import type { Changes, Point } from '../api/types'
import { changesText, isSuspect, looks, pointNote } from './suspects'

const point = (more: Partial<Point>): Point => ({
  sequence: 7,
  kind: 'files',
  committed: '2026-11-20T12:00:00Z',
  files: 9,
  bytes: 90,
  exceptions: 0,
  sent: 9,
  lost: false,
  ...more,
})
const marked = (mark: 'good' | 'suspect' | 'resolved') => ({ mark, reason: 'a build', by: 'ingrid', at: '2026-11-20T13:00:00Z' })

test('what a person says of a point stands above what it looked like', () => {
  expect(isSuspect(point({ suspicion: 'scrambled' }))).toBe(true)
  expect(isSuspect(point({ suspicion: 'scrambled', mark: marked('good') }))).toBe(false)
  expect(isSuspect(point({ mark: marked('suspect') }))).toBe(true)
  expect(isSuspect(point({}))).toBe(false)
  expect(pointNote(point({ suspicion: 'deleted' }))).toBe('looks like mass deletion')
  expect(pointNote(point({ suspicion: 'deleted', mark: marked('good') }))).toBe('marked good by ingrid: a build')
  expect(pointNote(point({}))).toBe('')
  expect(looks(null)).toBe('was marked suspect')
})

test('changes are told with what is most telling first, and none where nothing differs', () => {
  const none: Changes = {
    files_before: 400,
    bytes_before: 1,
    added: 0,
    added_bytes: 0,
    changed: 0,
    changed_bytes: 0,
    gone: 0,
    gone_bytes: 0,
    renamed: 0,
    scrambled: 0,
    scrambled_bytes: 0,
    relabelled: 0,
    old_gone: 0,
    old_gone_bytes: 0,
    selection_changed: false,
  }
  expect(changesText(none)).toBe('')
  expect(changesText({ ...none, scrambled: 300, scrambled_bytes: 5000, changed: 310, renamed: 2 })).toMatch(
    /^Of 400 files before: 300 not recognisable any more \(.*\), 310 changed, 2 renamed or moved\.$/,
  )
})

import { expect, test } from 'vitest'
import type { Workstation } from '../api/types'
import { ACTIONS, preview } from './severalActions'

const NOW = new Date('2026-03-03T12:00:00Z')
function action(key: string) {
  const found = ACTIONS.find((action) => action.key === key)
  if (!found) throw new Error(key)
  return found
}
const some = (of: object) => ({ name: 'knot', store: { limit: null }, ...of }) as unknown as Workstation

test('each line says how it is and how it is then', () => {
  const lines = preview(action('limit'), [some({}), some({ store: { limit: 5e11 } })], { limit: 2.5e11, hours: 8 }, NOW)
  expect(lines.map((line) => [line.now, line.then])).toEqual([
    ['no limit', '250 GB'],
    ['500 GB', '250 GB'],
  ])
})

test('what cannot be done for one is said before anything is done', () => {
  const [without, with_] = preview(action('back_up'), [some({}), some({ agent: {} })], { hours: 8 }, NOW)
  expect([without?.not, with_?.not]).toEqual(['no agent has reported', undefined])
  expect(preview(action('resume'), [some({})], { hours: 8 }, NOW)[0]?.not).toBe('it is not paused')
})

import { expect, test } from 'vitest'
import { linesOf } from './search'

test('each kind has its title once, and a way to all of it where there are more and a list of them', () => {
  const hit = (kind: 'workstation' | 'code', id: string) => ({ kind, id, name: `name of ${id}`, detail: '' })
  const lines = linesOf({ hits: [hit('workstation', 'a'), hit('workstation', 'b'), hit('code', 'c')], more: ['workstation', 'code'] }, 'name')
  expect(lines.map((line) => [line.title, line.name])).toEqual([
    ['Workstations', 'name of a'],
    [undefined, 'name of b'],
    [undefined, 'Show all of them'],
    ['Enrolment codes', 'name of c'],
  ])
  expect(lines[2]?.to).toEqual({ name: 'workstations', query: { text: 'name' } })
})

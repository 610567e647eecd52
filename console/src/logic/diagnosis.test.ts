import { expect, test } from 'vitest'
import type { DiagnosisLine } from '../api/types'
import { mark, remarkable, verdict, whose } from './diagnosis'

const line = (result: DiagnosisLine['result'], whose_move?: DiagnosisLine['whose_move']): DiagnosisLine => ({
  step: 'port',
  result,
  says: 'It is so.',
  ms: 1,
  next: whose_move ? 'Do something.' : null,
  whose_move: whose_move ?? null,
})

test('a diagnosis says in a sentence whether backups can be made', () => {
  expect(verdict({ at: null, found: null })).toBe('This workstation was never diagnosed.')
  const of = (steps: DiagnosisLine[]) => ({ at: null, found: { well: steps.every((s) => s.result !== 'failed'), steps } })
  expect(verdict(of([line('passed'), line('passed')]))).toBe('All 2 steps passed.')
  expect(verdict(of([line('passed'), line('noticed')]))).toContain('1 step should be looked at')
  const failed = of([line('passed'), line('failed', 'administrator')])
  expect(verdict(failed)).toContain('A step failed')
  expect(remarkable(failed).map((step) => step.result)).toEqual(['failed'])
})

test('what to do says whose move it is', () => {
  expect(whose(line('failed', 'administrator'))).toBe('For the administrator: ')
  expect(whose(line('noticed', 'workstation'))).toBe('At the workstation: ')
  expect([whose(line('passed')), mark(line('noticed')).word]).toEqual(['', 'look'])
})

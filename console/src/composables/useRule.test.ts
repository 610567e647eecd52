import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { effectScope, nextTick, ref } from 'vue'
import { api, ProblemError } from '../api/client'
import { useRule } from './useRule'

vi.mock('../api/client', async (actual) => ({ ...(await actual<object>()), api: { POST: vi.fn() } }))
const asked = vi.mocked(api.POST)

const said = (complaint: string | null) => ({ data: { complaint }, response: new Response() })

beforeEach(() => void vi.useFakeTimers())
afterEach(() => {
  vi.useRealTimers()
  asked.mockReset()
})

function field(untilNow?: string) {
  const text = ref('')
  const complaint = effectScope().run(() =>
    useRule(
      () => 'account-name',
      () => text.value,
      () => untilNow,
    ),
  )
  const type = async (typed: string) => {
    text.value = typed
    await nextTick()
    await vi.runAllTimersAsync()
  }
  return { type, complaint: () => complaint?.value }
}

test('what is typed is asked about once it rests, with what stands there until now', async () => {
  asked.mockResolvedValue(said('The name is taken.'))
  const { type, complaint } = field('mara')
  await type('ben')
  expect(asked).toHaveBeenCalledExactlyOnceWith('/api/v1/rules', { body: { rule: 'account-name', text: 'ben', until_now: 'mara' } })
  expect(complaint()).toBe('The name is taken.')
})

test('nothing is asked, and nothing held against it, when the field is empty or as it was', async () => {
  asked.mockResolvedValue(said('The name is taken.'))
  const { type, complaint } = field('mara')
  await type('ben')
  await type('mara')
  expect(complaint()).toBe('')
  await type('ben')
  await type(' ')
  expect(complaint()).toBe('')
  expect(asked).toHaveBeenCalledTimes(2)
})

test('an answer that was overtaken says nothing any more', async () => {
  let answerFirst: (said: object) => void = () => undefined
  asked.mockReturnValueOnce(new Promise((resolve) => (answerFirst = resolve)))
  asked.mockResolvedValueOnce(said(null))
  const { type, complaint } = field()
  await type('ben')
  await type('bent')
  answerFirst(said('The name is taken.'))
  await vi.runAllTimersAsync()
  expect(complaint()).toBe('')
})

test('without an answer nothing is held against what was typed', async () => {
  asked.mockRejectedValue(new ProblemError({ type: '', title: 'No answer.', status: 0, next_step: '', whose_move: 'caller' }))
  const { type, complaint } = field()
  await type('ben')
  expect(complaint()).toBe('')
})

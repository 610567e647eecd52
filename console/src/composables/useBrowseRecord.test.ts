import { afterEach, expect, test, vi } from 'vitest'
import { useBrowseRecord } from './useBrowseRecord'

const calls = vi.hoisted(() => ({ POST: vi.fn(), PATCH: vi.fn() }))
vi.mock('../api/client', () => ({ api: calls, answer: (made: Promise<unknown>) => made, at: (path: object) => ({ params: { path } }) }))

const ends = () => calls.POST.mock.calls.filter(([path]) => path === '/api/v1/restores/{id}/end').map(([, how]) => how as { params: { path: { id: string } }; body: { exceptions: number } })

afterEach(() => vi.resetAllMocks())

test('a point that was left while it was being opened is not on record as browsed for ever', async () => {
  let begun: (record: object) => void = () => undefined
  calls.POST.mockReturnValueOnce(new Promise((resolve) => (begun = resolve))).mockResolvedValue({})
  const record = useBrowseRecord('w', vi.fn())
  const beginning = record.begin(3)
  await vi.waitFor(() => expect(calls.POST).toHaveBeenCalled())
  await record.end()
  expect(ends()).toEqual([])
  begun({ id: 'r1', point: 3 })
  await beginning
  expect(ends().map((end) => end.params.path.id)).toEqual(['r1'])
})

test('one that was left before it was even asked for is not put on record', async () => {
  const record = useBrowseRecord('w', vi.fn())
  const beginning = record.begin(3)
  await record.end()
  await beginning
  expect(calls.POST).not.toHaveBeenCalled()
})

test('another point is another record, and what was read of the first is told with its end', async () => {
  calls.POST.mockImplementation((path: string, how: { body: { point: number } }) => Promise.resolve(path.endsWith('/restores') ? { id: `r${how.body.point}`, point: how.body.point } : {}))
  const record = useBrowseRecord('w', vi.fn())
  await record.begin(3)
  await record.begin(3)
  record.read({ files: 2, bytes: 10, exceptions: 1 })
  await record.begin(4)
  await record.end()
  expect(ends().map((end) => [end.params.path.id, end.body.exceptions])).toEqual([
    ['r3', 1],
    ['r4', 0],
  ])
})

import { afterEach, expect, test, vi, type Mock } from 'vitest'
import { answer, api, at, list, ProblemError, since } from './client'

// The client takes it when it is made.
const fetched = vi.hoisted(() => (globalThis.fetch = vi.fn<typeof fetch>())) as Mock<typeof fetch>
afterEach(() => fetched.mockReset())

const json = (body: unknown, status = 200) => new Response(JSON.stringify(body), { status, headers: { 'Content-Type': 'application/json' } })
const requested = (call = 0) => fetched.mock.calls[call]?.[0] as Request

async function problem(call: Promise<unknown>): Promise<ProblemError> {
  const error: unknown = await call.then(
    () => undefined,
    (e: unknown) => e,
  )
  expect(error).toBeInstanceOf(ProblemError)
  return error as ProblemError
}

test('a call names what it changes, and the version that it was filled from', async () => {
  fetched.mockResolvedValue(json({ id: 'a b' }))
  await answer(api.PATCH('/api/v1/groups/{id}', { ...at({ id: 'a b' }), body: { name: 'survey' }, ...since('v1') }))
  const request = requested()
  expect([request.method, new URL(request.url).pathname]).toEqual(['PATCH', '/api/v1/groups/a%20b'])
  expect([request.headers.get('If-Match'), request.credentials]).toEqual(['"v1"', 'same-origin'])
  expect(await request.json()).toEqual({ name: 'survey' })
})

test('what the service says is wrong is a problem, with its words', async () => {
  const said = { type: 'urn:jetfrost:problem:name-taken', title: 'The name is taken.', status: 409, next_step: 'Choose another.', whose_move: 'caller' }
  fetched.mockResolvedValue(json(said, 409))
  const found = await problem(answer(api.GET('/api/v1/groups')))
  expect([found.message, found.is('name-taken')]).toEqual(['The name is taken.', true])
})

test('a service that does not answer, and one that answers with something else, are problems with a next step', async () => {
  fetched.mockRejectedValueOnce(new TypeError('Failed to fetch'))
  expect((await problem(answer(api.GET('/api/v1/groups')))).message).toBe('The service does not answer.')
  fetched.mockResolvedValueOnce(new Response('<html>', { status: 502 }))
  const found = await problem(answer(api.GET('/api/v1/groups')))
  expect([found.message, found.problem.next_step !== '']).toEqual(['The service answered with status 502.', true])
})

test('an answer without content is none', async () => {
  fetched.mockResolvedValue(new Response(null, { status: 204 }))
  expect(await answer(api.DELETE('/api/v1/groups/{id}', at({ id: 'g' })))).toBeUndefined()
})

test('a list is read to its end, page by page', async () => {
  fetched.mockResolvedValueOnce(json({ items: [1, 2], next: 'b' })).mockResolvedValueOnce(json({ items: [3], next: null }))
  expect(await list((query) => api.GET('/api/v1/workstations', { params: { query } }))).toEqual([1, 2, 3])
  expect([new URL(requested(0).url).search, new URL(requested(1).url).search]).toEqual(['?most=500', '?most=500&after=b'])
})

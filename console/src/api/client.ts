/**
 * The only place that fetches. Paths, what they take and what they answer with come from the OpenAPI document; every status is checked,
 * and what is not success becomes a `ProblemError`.
 */
import createClient from 'openapi-fetch'
import { units } from '../logic/format'
import type { paths } from './schema'
import type { Page, Problem } from './types'

export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title)
  }

  is(word: string): boolean {
    return this.problem.type === `urn:jetfrost:problem:${word}`
  }
}

const unreachable: Problem = {
  type: 'urn:jetfrost:problem:unreachable',
  title: 'The service does not answer.',
  status: 0,
  next_step: 'Look whether the service runs and this computer is in the office’s network; then try again.',
  whose_move: 'caller',
}

function isProblem(value: unknown): value is Problem {
  return typeof value === 'object' && value !== null && 'title' in value && 'next_step' in value
}

async function problemOf(response: Response): Promise<Problem> {
  try {
    const body: unknown = await response.json()
    if (isProblem(body)) return body
  } catch {
    // Not a problem document: what follows says all that is known.
  }
  return { ...unreachable, title: `The service answered with status ${response.status}.`, status: response.status }
}

export const api = createClient<paths>({ baseUrl: location.origin, credentials: 'same-origin' })
api.use({
  async onResponse({ response }) {
    const said = response.headers.get('jetfrost-units')
    if (said === 'decimal' || said === 'binary') units.value = said
    if (!response.ok) throw new ProblemError(await problemOf(response))
  },
  onError: () => new ProblemError(unreachable),
})

/** What stands in a path. */
export const at = <P>(path: P) => ({ params: { path } })

/** A change is refused if somebody else made one since this version. */
export const since = (version: string | undefined) => (version === undefined ? {} : { headers: { 'If-Match': `"${version}"` } })

/** What a call answers with. One that was refused has been thrown; an answer without content has none. */
export async function answer<T>(call: Promise<{ data?: T }>): Promise<T> {
  return (await call).data as T
}

/** Saves what a call answers with as a file of the person's. */
export async function save(name: string, call: Promise<{ data?: Blob }>): Promise<void> {
  const address = URL.createObjectURL(await answer(call))
  const link = document.createElement('a')
  link.href = address
  link.download = name
  link.click()
  URL.revokeObjectURL(address)
}

/** Where a page of a list begins, and how long it is at most. */
interface Mark {
  most: number
  after?: string
}

/** All entries of a list, page by page. */
export async function list<T>(page: (mark: Mark) => Promise<{ data?: Page<T> }>): Promise<T[]> {
  const items: T[] = []
  let after: string | undefined
  do {
    const found = await answer(page({ most: 500, after }))
    items.push(...found.items)
    after = found.next ?? undefined
  } while (after !== undefined)
  return items
}

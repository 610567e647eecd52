/** The only place that fetches. Every status is checked; what is not success becomes a `ProblemError`. */
import { units } from '../logic/format'
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

async function answer(method: string, path: string, body?: unknown, version?: string): Promise<Response> {
  const headers: Record<string, string> = body === undefined ? {} : { 'Content-Type': 'application/json' }
  if (version) headers['If-Match'] = `"${version}"`
  let response: Response
  try {
    response = await fetch(`/api/v1${path}`, {
      method,
      credentials: 'same-origin',
      headers,
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch {
    throw new ProblemError(unreachable)
  }
  const said = response.headers.get('jetfrost-units')
  if (said === 'decimal' || said === 'binary') units.value = said
  if (!response.ok) throw new ProblemError(await problemOf(response))
  return response
}

/** Calls the API; `T` is what the OpenAPI document promises for this path. With a version, a change is refused if somebody else made one since. */
export async function call<T>(method: string, path: string, body?: unknown, version?: string): Promise<T> {
  const response = await answer(method, path, body, version)
  return response.status === 204 ? (undefined as T) : ((await response.json()) as T)
}

export const get = <T>(path: string) => call<T>('GET', path)
export const post = <T>(path: string, body: unknown) => call<T>('POST', path, body)
export const patch = <T>(path: string, body: unknown, version?: string) => call<T>('PATCH', path, body, version)
export const put = <T>(path: string, body: unknown, version?: string) => call<T>('PUT', path, body, version)
export const remove = <T = unknown>(path: string) => call<T>('DELETE', path)

/** Saves what a call answers with as a file of the person's. */
export async function save(method: string, path: string, name: string, body?: unknown): Promise<void> {
  const response = await answer(method, path, body)
  const address = URL.createObjectURL(await response.blob())
  const link = document.createElement('a')
  link.href = address
  link.download = name
  link.click()
  URL.revokeObjectURL(address)
}

/** All entries of a list, page by page. */
export async function list<T>(path: string): Promise<T[]> {
  const items: T[] = []
  let after: string | null | undefined
  do {
    const mark = after == null ? '' : `&after=${encodeURIComponent(after)}`
    const page = await get<Page<T>>(`${path}${path.includes('?') ? '&' : '?'}most=500${mark}`)
    items.push(...page.items)
    after = page.next
  } while (after != null)
  return items
}

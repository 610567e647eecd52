/**
 * The only place that fetches. Paths, what they take and what they answer with come from the OpenAPI document; every status is checked,
 * and what is not success becomes a `ProblemError`.
 */
import createClient from 'openapi-fetch'
import { units } from '../logic/format'
import { problemOf, ProblemError, unreachable } from './problem'
import type { paths } from './schema'
import type { Page } from './types'

export { ProblemError }

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
  saveBlob(name, await answer(call))
}

/** Saves a text as a file of the person's. */
export const saveText = (name: string, type: string, text: string) => saveBlob(name, new Blob([text], { type }))

function saveBlob(name: string, blob: Blob): void {
  const address = URL.createObjectURL(blob)
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

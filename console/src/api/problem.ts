/** What the service says when it refuses, or when it does not answer (RFC 9457). Shared by the pages and the worker. */
import type { Problem } from './types'

export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title)
  }

  is(word: string): boolean {
    return this.problem.type === `urn:jetfrost:problem:${word}`
  }
}

export const unreachable: Problem = {
  type: 'urn:jetfrost:problem:unreachable',
  title: 'The service does not answer.',
  status: 0,
  next_step: 'Look whether the service runs and this computer is in the office’s network; then try again.',
  whose_move: 'caller',
}

function isProblem(value: unknown): value is Problem {
  return typeof value === 'object' && value !== null && 'title' in value && 'next_step' in value
}

export async function problemOf(response: Response): Promise<Problem> {
  try {
    const body: unknown = await response.json()
    if (isProblem(body)) return body
  } catch {
    // Not a problem document: what follows says all that is known.
  }
  return { ...unreachable, title: `The service answered with status ${response.status}.`, status: response.status }
}

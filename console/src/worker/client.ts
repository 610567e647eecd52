/** The page's side of the worker. */
import { ProblemError } from '../api/problem'
import type { Problem } from '../api/types'
import { ImageError, type ImageTrouble } from '../image/errors'
import type { Failure, Question, Questions, Reply } from './protocol'

interface Waiting {
  answer: (answer: unknown) => void
  fail: (error: unknown) => void
  tells?: (told: unknown) => void
}

/** It was cancelled by whoever asked. */
export class CancelledError extends Error {}

/** A question that is being answered. */
export interface Asked<T> {
  answer: Promise<T>
  cancel: () => void
}

/** The worker of one page. Closing it forgets every key. */
export class ImageWorker {
  private readonly worker = new Worker(new URL('./image.worker.ts', import.meta.url), { type: 'module' })
  private readonly waiting = new Map<number, Waiting>()
  private next = 1

  constructor() {
    this.worker.onmessage = ({ data }: MessageEvent<Reply>) => this.take(data)
    this.worker.onerror = () => this.end(new ProblemError(brokenDown))
  }

  ask<Q extends Question>(question: Q, given: Questions[Q]['with'], tells?: (told: Questions[Q]['tells']) => void): Asked<Questions[Q]['answer']> {
    const id = this.next++
    const answer = new Promise<Questions[Q]['answer']>((answered, fail) => {
      this.waiting.set(id, { answer: answered as (answer: unknown) => void, fail, tells: tells as (told: unknown) => void })
      this.worker.postMessage({ id, ask: question, with: given })
    })
    return { answer, cancel: () => this.worker.postMessage({ id, ask: 'cancel' }) }
  }

  close() {
    this.worker.terminate()
    this.end(new CancelledError())
  }

  private take(reply: Reply) {
    const waiting = this.waiting.get(reply.id)
    if (!waiting) return
    if ('tells' in reply) {
      waiting.tells?.(reply.tells)
      return
    }
    this.waiting.delete(reply.id)
    if ('answer' in reply) waiting.answer(reply.answer)
    else waiting.fail(errorOf(reply.failure))
  }

  private end(error: Error) {
    for (const waiting of this.waiting.values()) waiting.fail(error)
    this.waiting.clear()
  }
}

function errorOf(failure: Failure): Error {
  switch (failure.of) {
    case 'cancelled':
      return new CancelledError()
    case 'image':
      return new ImageError(failure.trouble, failure.message)
    case 'service':
      return new ProblemError(failure.problem)
    case 'browser':
      return new ProblemError({ ...brokenDown, title: `The browser could not do it: ${failure.message}` })
  }
}

const brokenDown: Problem = {
  type: 'urn:jetfrost:problem:browser',
  title: 'The part of this page that reads image stores did not start or broke down.',
  status: 0,
  next_step: 'Reload the page with a current browser. On the workstation, jetfrost restore does the same.',
  whose_move: 'caller',
}

const NEXT: Record<ImageTrouble, string> = {
  secret: 'Compare what you typed with where it is written down. Nothing of it was sent.',
  damaged: 'Take another point, or another version of the file. The administrator can look at Integrity on the workstation’s page.',
  missing: 'Take another point, or another version of the file. The administrator can look at Integrity on the workstation’s page.',
  'too-much': 'Order the folder that they are in.',
  'no-such-path': 'Choose another point or folder.',
  'unknown-version': 'Reload the page; if that does not help, the service is older than the workstation’s program.',
}

/** Any failure, as a problem that a person is shown. */
export function problemFrom(error: unknown): Problem {
  if (error instanceof ProblemError) return error.problem
  if (error instanceof DOMException) return { ...brokenDown, title: `The browser refused: ${error.message}` }
  if (!(error instanceof ImageError)) throw error
  const title = error.message.charAt(0).toUpperCase() + error.message.slice(1)
  return { type: `urn:jetfrost:problem:${error.trouble}`, title: /[.!?]$/.test(title) ? title : `${title}.`, status: 0, next_step: NEXT[error.trouble], whose_move: 'caller' }
}

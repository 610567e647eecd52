/** Puts on record that a point is browsed: who, which point, how much was read of it. Names stay in the browser. */
import { answer, api, at } from '../api/client'
import type { Progress, Restore } from '../api/types'

const REPORT_EVERY_MS = 2000

/** Begins with the first point that is looked at; `onCancel` is told who wants it to end. */
export function useBrowseRecord(workstation: string, onCancel: (by: string) => void) {
  let record: Restore | undefined
  let files = 0
  let bytes = 0
  let exceptions = 0
  /** Counts what was begun and ended, so that an answer that comes late is noticed. */
  let begun = 0
  let timer: ReturnType<typeof setInterval> | undefined

  const progress = (): Progress => ({ phase: 'sending', files_done: files, files_total: null, bytes_done: bytes, bytes_total: null, sent: 0 })

  async function begin(point: number): Promise<void> {
    if (record?.point === point) return
    const turn = ++begun
    await close()
    // Somebody left or locked the page meanwhile, or went on: nothing is browsed here any more.
    if (turn !== begun) return
    const body = { point, scope: 'selection' as const, purpose: 'browse' as const }
    const made = await answer(api.POST('/api/v1/workstations/{id}/restores', { ...at({ id: workstation }), body }))
    if (turn !== begun) return sayEnded(made)
    record = made
    timer = setInterval(() => void report(), REPORT_EVERY_MS)
  }

  async function report(): Promise<void> {
    if (!record) return
    try {
      const now = await answer(api.PATCH('/api/v1/restores/{id}', { ...at({ id: record.id }), body: progress() }))
      if (now.cancelled_by) onCancel(now.cancelled_by)
    } catch {
      // The next report says it all again; if none arrives, the service notes it as lost.
    }
  }

  function end(): Promise<void> {
    begun += 1
    return close()
  }

  async function close(): Promise<void> {
    clearInterval(timer)
    const ended = record
    record = undefined
    if (ended) await sayEnded(ended)
  }

  async function sayEnded(ended: Restore): Promise<void> {
    const body = { progress: progress(), exceptions }
    files = bytes = exceptions = 0
    // The page may be on its way out: the browser sends it all the same.
    await api.POST('/api/v1/restores/{id}/end', { ...at({ id: ended.id }), body, keepalive: true }).catch(() => undefined)
  }

  function read(more: { files: number; bytes: number; exceptions?: number }) {
    files += more.files
    bytes += more.bytes
    exceptions += more.exceptions ?? 0
  }

  return { begin, end, read }
}

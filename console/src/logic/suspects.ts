/** Suspect points, as people read them. */
import type { Changes, Point, PointMark, Suspicion } from '../api/types'
import { count, size } from './format'

const LOOKS: Record<Suspicion, string> = {
  scrambled: 'looks like mass encryption',
  deleted: 'looks like mass deletion',
  replaced: 'shares almost nothing with the point before',
}

/** What a suspect point looks like, after its number. */
export function looks(suspicion: Suspicion | null | undefined): string {
  return suspicion ? LOOKS[suspicion] : 'was marked suspect'
}

export const MARKS: { mark: PointMark; means: string }[] = [
  { mark: 'good', means: 'false alarm: older points go by the rule again' },
  { mark: 'suspect', means: 'it may contain what an incident left: older points stay' },
  { mark: 'resolved', means: 'the incident is dealt with: older points go by the rule again' },
]

/** Whether it keeps everything before it. */
export function isSuspect(point: Point): boolean {
  return point.mark ? point.mark.mark === 'suspect' : point.suspicion != null
}

/** What is known of a point beside its contents. */
export function pointNote(point: Point): string {
  if (point.mark) return `marked ${point.mark.mark} by ${point.mark.by}: ${point.mark.reason}`
  return point.suspicion ? looks(point.suspicion) : ''
}

/** How a point differs from the one before, with what is most telling first; nothing where nothing differs. */
export function changesText(changes: Changes): string {
  const parts: [number, number | undefined, string][] = [
    [changes.scrambled, changes.scrambled_bytes, 'not recognisable any more'],
    [changes.changed, changes.changed_bytes, 'changed'],
    [changes.gone, changes.gone_bytes, 'gone'],
    [changes.added, changes.added_bytes, 'new'],
    [changes.renamed, undefined, 'renamed or moved'],
  ]
  const said = parts.filter(([n]) => n > 0).map(([n, bytes, what]) => `${count(n)} ${what}${bytes ? ` (${size(bytes)})` : ''}`)
  return said.length === 0 ? '' : `Of ${count(changes.files_before)} files before: ${said.join(', ')}.`
}

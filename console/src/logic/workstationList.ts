/** The columns of the list of workstations: what they say, and what the list can be sorted by. */
import type { Workstation } from '../api/types'
import { late, nextRun } from './agent'
import { age, many, moment, size, words } from './format'
import { provenText } from './restore'
import { sources } from './schedule'

export type ColumnKey = 'person' | 'state' | 'next_backup' | 'latest_point' | 'drilled' | 'size' | 'used' | 'latest_run' | 'destination' | 'last_seen' | 'client_version' | 'schedule'

export interface Column {
  key: ColumnKey
  title: string
  /** What the service calls the order by it. */
  by?: string
  isNumber?: boolean
  text: (workstation: Workstation, now: Date) => string
  /** More of it, where the mouse rests. */
  more?: (workstation: Workstation) => string | undefined
  isBad?: (workstation: Workstation) => boolean
  /** How much of what it may be it is. */
  share?: (workstation: Workstation, now: Date) => number | undefined
}

const seconds = (from: string, now: Date) => (now.getTime() - new Date(from).getTime()) / 1000

/** How a run went, in a few words. */
export function runText({ latest_run: run }: Pick<Workstation, 'latest_run'>): string {
  if (!run) return 'no run yet'
  if (run.outcome === 'underway') {
    const { bytes_done: done, bytes_total: total } = run.progress
    return total ? `underway, ${Math.min(Math.round((100 * done) / total), 100)} %` : 'underway'
  }
  const exceptions = run.exceptions.changed_while_read + run.exceptions.unreadable + run.exceptions.disappeared
  return exceptions > 0 ? `complete with ${many(exceptions, 'exception')}` : run.outcome
}

/** Bytes that are used, against the limit where there is one. */
function usedText({ store }: Workstation): string {
  if (store.used == null) return '–'
  return store.limit == null ? size(store.used) : `${size(store.used)} of ${size(store.limit)}`
}

export const COLUMNS: readonly Column[] = [
  { key: 'person', title: 'Person', by: 'person', text: (w) => w.person },
  { key: 'state', title: 'State', by: 'state', text: (w) => (w.store.suspect ? 'suspect' : words(w.state)) },
  { key: 'next_backup', title: 'Next backup', by: 'next_backup', text: nextRun, isBad: (w) => late(w.agent) },
  {
    key: 'latest_point',
    title: 'Last complete point',
    by: 'latest_point',
    text: (w, now) => (w.latest_point ? age(w.latest_point.committed, now) : 'none'),
    more: (w) => (w.latest_point ? moment(w.latest_point.committed) : undefined),
    isBad: (w) => w.state === 'overdue',
    share: (w, now) => (w.latest_point ? seconds(w.latest_point.committed, now) / w.schedule.values.rhythm_seconds / 2 : undefined),
  },
  { key: 'drilled', title: 'Proven restorable', by: 'drilled', text: (w, now) => provenText(w.store, now), isBad: (w) => !!w.store.drill_failed },
  { key: 'size', title: 'Size', by: 'size', isNumber: true, text: (w) => (w.latest_point ? size(w.latest_point.bytes) : '–') },
  {
    key: 'used',
    title: 'Image store',
    by: 'used',
    isNumber: true,
    text: usedText,
    share: ({ store }) => (store.limit == null || store.used == null ? undefined : store.used / store.limit),
  },
  { key: 'latest_run', title: 'Last run', text: runText },
  { key: 'destination', title: 'Destination', by: 'destination', text: (w) => w.store.destination_name },
  { key: 'last_seen', title: 'Last seen', by: 'last_seen', text: (w, now) => (w.last_seen ? age(w.last_seen, now) : 'never') },
  { key: 'client_version', title: 'Client', by: 'client_version', text: (w) => `${w.client_version}, ${w.platform}` },
  { key: 'schedule', title: 'Schedule set by', text: (w) => sources(w.schedule) },
]

export const USUAL: readonly ColumnKey[] = ['person', 'state', 'next_backup', 'latest_point', 'drilled', 'used', 'latest_run']
